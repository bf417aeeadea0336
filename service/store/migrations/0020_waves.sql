-- A wave of 20,000 laptops opens in half the time without it. Laptops of one rollout lie side by side.
DROP INDEX rollout_laptops_wave;
