-- What was altered on laptops, as they said or as it showed when their values were read: found and wanted as JSON, empty for nothing.
CREATE TABLE drifts (
  seq INTEGER PRIMARY KEY AUTOINCREMENT,
  device TEXT NOT NULL,
  setting TEXT NOT NULL,
  at DATETIME NOT NULL,
  found TEXT NOT NULL,
  wanted TEXT NOT NULL,
  "by" TEXT NOT NULL,
  repaired BOOLEAN NOT NULL,
  said BOOLEAN NOT NULL,
  policies TEXT NOT NULL
);
CREATE INDEX drifts_by_device ON drifts (device, seq);
CREATE INDEX drifts_by_time ON drifts (at);
