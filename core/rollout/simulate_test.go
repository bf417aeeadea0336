package rollout_test

import (
	"testing"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rollout"
)

func TestSimulations(t *testing.T) {
	started := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	pilots := share("pilots", 10_00)
	pilots.Least = 24 * time.Hour
	fifth := share("fifth", 20_00)
	fifth.ByHand = true
	plan := estate.DefaultPlan()
	plan.Waves = []estate.Wave{pilots, fifth}
	laptops := company(200)
	for i := range laptops {
		laptops[i].Heard, laptops[i].Interval = started, 2*time.Hour
	}
	for name, c := range map[string]struct {
		failing  estate.Percent
		progress rollout.Progress
		open     int
	}{
		"nobody fails":     {0, rollout.Finished, 3},
		"one in a hundred": {1_00, rollout.Finished, 3},
		"a third fails":    {33_00, rollout.Stopped, 1},
	} {
		s, err := rollout.Simulate("C-1", plan, laptops, started, c.failing, 30*24*time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		open := 0
		for _, w := range s.Waves {
			if !w.Opened.IsZero() {
				open++
			}
		}
		if s.Progress != c.progress || open != c.open {
			t.Errorf("%s: %s with %d waves open, expected %s with %d", name, s.Progress, open, c.progress, c.open)
		}
		if c.progress == rollout.Finished && s.Ended.Before(started.Add(24*time.Hour)) {
			t.Errorf("%s: ended at %s, before the pilots' day was over", name, s.Ended)
		}
		last := s.Points[len(s.Points)-1]
		total := 0
		for _, n := range last.Counts {
			total += n
		}
		if total != 200 || len(s.Points) > 200 || !s.Points[0].At.Equal(started) {
			t.Errorf("%s: %d laptops, %d points", name, total, len(s.Points))
		}
		again, _ := rollout.Simulate("C-1", plan, laptops, started, c.failing, 30*24*time.Hour)
		if !again.Ended.Equal(s.Ended) {
			t.Errorf("%s: played again it ends at %s, not at %s", name, again.Ended, s.Ended)
		}
	}
	never := company(3)
	for i := range never {
		never[i].Heard = time.Time{}
	}
	if s, err := rollout.Simulate("C-1", estate.DefaultPlan(), never, started, 0, time.Hour); err != nil || s.Progress != rollout.Running {
		t.Errorf("laptops that were never heard: %v, %v", s, err)
	}
}
