-- Recovery keys, sealed: the service cannot read them without its escrow identity, which is not in the database. Recipients are a JSON list.
CREATE TABLE recovery_keys (
  seq INTEGER PRIMARY KEY AUTOINCREMENT,
  device TEXT NOT NULL,
  volume TEXT NOT NULL,
  name TEXT NOT NULL,
  identifier TEXT NOT NULL,
  sealed BLOB NOT NULL,
  recipients TEXT NOT NULL,
  state TEXT NOT NULL,
  made_at DATETIME NOT NULL,
  stored_at DATETIME NOT NULL,
  since DATETIME,
  until DATETIME,
  used_at DATETIME,
  used_by TEXT NOT NULL,
  renewal_at DATETIME
);
CREATE UNIQUE INDEX recovery_keys_by_device ON recovery_keys (device, volume, identifier);
CREATE INDEX recovery_keys_by_identifier ON recovery_keys (identifier);
-- What laptops report of their volumes; volumes is a JSON list.
CREATE TABLE laptop_volumes (
  device TEXT PRIMARY KEY,
  volumes TEXT NOT NULL,
  at DATETIME NOT NULL
) WITHOUT ROWID;
-- What was asked to see a key. One row is good for one look.
CREATE TABLE key_requests (
  id TEXT PRIMARY KEY,
  key_seq INTEGER NOT NULL,
  device TEXT NOT NULL,
  volume TEXT NOT NULL,
  identifier TEXT NOT NULL,
  person TEXT NOT NULL,
  reason TEXT NOT NULL,
  "by" TEXT NOT NULL,
  at DATETIME NOT NULL,
  expires_at DATETIME NOT NULL,
  state TEXT NOT NULL,
  consent_by TEXT NOT NULL,
  consent_at DATETIME,
  shown_at DATETIME
) WITHOUT ROWID;
CREATE INDEX key_requests_by_time ON key_requests (at);
-- To whom keys are sealed: the public halves, and what is known of their private halves.
CREATE TABLE escrow_recipients (
  recipient TEXT PRIMARY KEY,
  title TEXT NOT NULL,
  holder TEXT NOT NULL,
  made_at DATETIME NOT NULL,
  made_by TEXT NOT NULL,
  replace_on TEXT NOT NULL,
  destroyed_at DATETIME,
  destroyed_by TEXT NOT NULL
) WITHOUT ROWID;
-- How far laptops were covered, by day and unit, with what is below the unit; counts is a JSON list in the order of the groups.
CREATE TABLE coverage_days (
  day TEXT NOT NULL,
  unit TEXT NOT NULL,
  counts TEXT NOT NULL,
  PRIMARY KEY (day, unit)
) WITHOUT ROWID;
