-- What laptops reported, over time: deliveries have what they report now and since when; this has what they reported before.
ALTER TABLE deliveries ADD COLUMN since DATETIME;
UPDATE deliveries SET since = reported_at;
CREATE TABLE reported_before (
  device TEXT NOT NULL, setting TEXT NOT NULL, since DATETIME NOT NULL, until DATETIME NOT NULL, value TEXT NOT NULL,
  PRIMARY KEY (device, setting, since)
) WITHOUT ROWID;
-- When laptops checked in: spans in which they did as often as usual.
CREATE TABLE presence (
  device TEXT NOT NULL, since DATETIME NOT NULL, until DATETIME NOT NULL, sessions INTEGER NOT NULL, PRIMARY KEY (device, since)
) WITHOUT ROWID;
INSERT INTO presence SELECT device, last_seen, last_seen, 1 FROM laptops WHERE last_seen IS NOT NULL;
