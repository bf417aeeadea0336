-- Grants that were taken away, and when: so that it is known who had which role at a moment.
CREATE TABLE grants_before (
  id TEXT PRIMARY KEY, account TEXT NOT NULL, "group" TEXT NOT NULL, role TEXT NOT NULL, unit TEXT NOT NULL, "from" TEXT NOT NULL, until TEXT NOT NULL,
  "by" TEXT NOT NULL, at DATETIME NOT NULL, taken_at DATETIME NOT NULL
);
