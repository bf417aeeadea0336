-- Reviews of changes: who is asked, what was said, and what was approved.
ALTER TABLE changes ADD COLUMN reviewers TEXT NOT NULL DEFAULT '';
ALTER TABLE changes ADD COLUMN sent_by TEXT NOT NULL DEFAULT '';
ALTER TABLE changes ADD COLUMN sent_at DATETIME;
ALTER TABLE changes ADD COLUMN undoes TEXT NOT NULL DEFAULT '';
ALTER TABLE changes ADD COLUMN urgent TEXT NOT NULL DEFAULT '';
ALTER TABLE changes ADD COLUMN approve_by DATETIME;
ALTER TABLE changes ADD COLUMN looked TEXT NOT NULL DEFAULT '';
CREATE TABLE approvals (
  seq INTEGER PRIMARY KEY AUTOINCREMENT, change_id TEXT NOT NULL REFERENCES changes(id), "by" TEXT NOT NULL, at DATETIME NOT NULL, verdict TEXT NOT NULL,
  note TEXT NOT NULL DEFAULT '', digest TEXT NOT NULL, impact TEXT NOT NULL DEFAULT '', standing TEXT NOT NULL DEFAULT '', void INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX approvals_change ON approvals (change_id, seq);
CREATE TABLE comments (
  id INTEGER PRIMARY KEY AUTOINCREMENT, change_id TEXT NOT NULL REFERENCES changes(id), "by" TEXT NOT NULL, at DATETIME NOT NULL, about TEXT NOT NULL DEFAULT '',
  text TEXT NOT NULL, blocking INTEGER NOT NULL DEFAULT 0, resolved_by TEXT NOT NULL DEFAULT '', resolved_at DATETIME
);
CREATE INDEX comments_change ON comments (change_id, id);

-- Rollouts. The id is that of the change; number is the order of publication.
CREATE TABLE rollouts (
  id TEXT PRIMARY KEY, number INTEGER NOT NULL UNIQUE, title TEXT NOT NULL, plan TEXT NOT NULL, by TEXT NOT NULL, published_at DATETIME NOT NULL, started_at DATETIME,
  progress TEXT NOT NULL, reason TEXT NOT NULL DEFAULT '', seen_failed INTEGER NOT NULL DEFAULT 0, seen_lost INTEGER NOT NULL DEFAULT 0, now DATETIME,
  ended_at DATETIME, revision INTEGER NOT NULL DEFAULT 0, concluded INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE rollout_waves (rollout TEXT NOT NULL REFERENCES rollouts(id), place INTEGER NOT NULL, wave TEXT NOT NULL, opened_at DATETIME, half_at DATETIME, most_at DATETIME, PRIMARY KEY (rollout, place)) WITHOUT ROWID;
CREATE TABLE rollout_laptops (
  rollout TEXT NOT NULL, device TEXT NOT NULL, wave TEXT NOT NULL, state INTEGER NOT NULL, heard DATETIME NOT NULL, interval INTEGER NOT NULL,
  since DATETIME, reason TEXT NOT NULL DEFAULT '', failed_before TEXT NOT NULL DEFAULT '', PRIMARY KEY (rollout, device)
) WITHOUT ROWID;
CREATE INDEX rollout_laptops_wave ON rollout_laptops (rollout, wave, state);
CREATE TABLE rollout_events (
  seq INTEGER PRIMARY KEY AUTOINCREMENT, rollout TEXT NOT NULL, at DATETIME NOT NULL, what TEXT NOT NULL, device TEXT NOT NULL DEFAULT '', wave TEXT NOT NULL DEFAULT '',
  "from" TEXT NOT NULL DEFAULT '', "to" TEXT NOT NULL DEFAULT '', laptops INTEGER NOT NULL DEFAULT 0, "by" TEXT NOT NULL DEFAULT '', reason TEXT NOT NULL DEFAULT ''
);
CREATE INDEX rollout_events_rollout ON rollout_events (rollout, seq);
-- Seconds between two check-ins of a laptop, as they usually are; 0: not known.
ALTER TABLE laptops ADD COLUMN usual INTEGER NOT NULL DEFAULT 0;
