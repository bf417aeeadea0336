-- Offered policies: which of them a laptop shows to its person, as they were sent, and since when it says itself what was taken.
ALTER TABLE laptops ADD COLUMN offers TEXT NOT NULL DEFAULT '';
ALTER TABLE laptops ADD COLUMN tells_since DATETIME;
-- What was taken, over time: until is null where it is taken now.
CREATE TABLE offers_taken (
  device TEXT NOT NULL, policy TEXT NOT NULL, since DATETIME NOT NULL, until DATETIME, PRIMARY KEY (device, policy, since)
) WITHOUT ROWID;
