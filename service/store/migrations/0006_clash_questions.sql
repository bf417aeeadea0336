-- Questions to those who answer for policies that do not fit together.
CREATE TABLE clash_questions (
  id          TEXT PRIMARY KEY,
  at          DATETIME NOT NULL,
  setting     TEXT NOT NULL, -- of a clash; empty with a problem
  problem     TEXT NOT NULL, -- the check; empty with a clash
  policies    TEXT NOT NULL, -- ids, sorted, separated by spaces
  by          TEXT NOT NULL,
  asked       TEXT NOT NULL, -- JSON: the names of those who are asked
  note        TEXT NOT NULL,
  state       TEXT NOT NULL, -- open, answered, withdrawn
  answer      TEXT NOT NULL DEFAULT '',
  answered_by TEXT NOT NULL DEFAULT '',
  answered_at DATETIME
);
CREATE INDEX clash_questions_by_state ON clash_questions (state, at);
