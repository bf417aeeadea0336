-- When policies began or ceased to clash, on which laptops, and by what.
CREATE TABLE clash_events (
  seq        INTEGER PRIMARY KEY AUTOINCREMENT,
  at         DATETIME NOT NULL,
  setting    TEXT NOT NULL,
  policies   TEXT NOT NULL, -- ids, sorted, separated by spaces
  gained     BOOLEAN NOT NULL,
  fresh      BOOLEAN NOT NULL, -- gained on a first laptop, or cleared on the last
  revision   INTEGER NOT NULL,
  change_id  TEXT NOT NULL, -- empty: no edit did it
  title      TEXT NOT NULL,
  by         TEXT NOT NULL,
  devices    INTEGER NOT NULL,
  sample     TEXT NOT NULL -- JSON: the first of them, with what altered about each
);
CREATE INDEX clash_events_by_clash ON clash_events (setting, policies, seq);
