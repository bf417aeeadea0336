-- How laptops stand to baselines, as they were measured last; failing is JSON. A day's share is kept for each unit, with what is below it.
CREATE TABLE baseline_states (
  baseline TEXT NOT NULL,
  device TEXT NOT NULL,
  unit TEXT NOT NULL,
  state TEXT NOT NULL,
  failing TEXT NOT NULL,
  at DATETIME NOT NULL,
  PRIMARY KEY (baseline, device)
) WITHOUT ROWID;
CREATE INDEX baseline_states_by_device ON baseline_states (device);
CREATE TABLE baseline_days (
  baseline TEXT NOT NULL,
  unit TEXT NOT NULL,
  day TEXT NOT NULL,
  complies INTEGER NOT NULL,
  differs INTEGER NOT NULL,
  unknown INTEGER NOT NULL,
  PRIMARY KEY (baseline, unit, day)
) WITHOUT ROWID;
