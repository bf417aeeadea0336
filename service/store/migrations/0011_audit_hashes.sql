-- Each record of the audit log carries a hash over itself and the hash before; checkpoints sign hashes from time to time.
ALTER TABLE audit_records ADD COLUMN hash TEXT NOT NULL DEFAULT '';
CREATE TABLE audit_checkpoints (
  number INTEGER NOT NULL, hash TEXT NOT NULL, at DATETIME NOT NULL, key TEXT NOT NULL, signature TEXT NOT NULL,
  PRIMARY KEY (number, at)
) WITHOUT ROWID;
