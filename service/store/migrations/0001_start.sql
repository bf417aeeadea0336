-- Objects of the estate as they are live, and every published version of each.
CREATE TABLE objects (
  kind TEXT NOT NULL, id TEXT NOT NULL, version INTEGER NOT NULL, retired INTEGER NOT NULL DEFAULT 0,
  body TEXT NOT NULL, revision INTEGER NOT NULL, PRIMARY KEY (kind, id)
) WITHOUT ROWID;
CREATE TABLE object_versions (
  kind TEXT NOT NULL, id TEXT NOT NULL, version INTEGER NOT NULL, retired INTEGER NOT NULL DEFAULT 0,
  body TEXT NOT NULL, revision INTEGER NOT NULL, "by" TEXT NOT NULL, at DATETIME NOT NULL, PRIMARY KEY (kind, id, version)
) WITHOUT ROWID;
CREATE TABLE publications (
  revision INTEGER PRIMARY KEY AUTOINCREMENT, change_id TEXT NOT NULL, title TEXT NOT NULL, "by" TEXT NOT NULL, at DATETIME NOT NULL, edits INTEGER NOT NULL
);
CREATE TABLE changes (
  id TEXT PRIMARY KEY, title TEXT NOT NULL, why TEXT NOT NULL DEFAULT '', state TEXT NOT NULL, version INTEGER NOT NULL,
  created_by TEXT NOT NULL, created_at DATETIME NOT NULL, updated_at DATETIME NOT NULL, revision INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE edits (
  change_id TEXT NOT NULL REFERENCES changes(id), kind TEXT NOT NULL, object_id TEXT NOT NULL, retire INTEGER NOT NULL DEFAULT 0,
  body TEXT NOT NULL, base_version INTEGER NOT NULL, version INTEGER NOT NULL, "by" TEXT NOT NULL, at DATETIME NOT NULL,
  PRIMARY KEY (change_id, kind, object_id)
) WITHOUT ROWID;
CREATE TABLE audit_records (
  seq INTEGER PRIMARY KEY AUTOINCREMENT, at DATETIME NOT NULL, "by" TEXT NOT NULL, door TEXT NOT NULL, action TEXT NOT NULL,
  kind TEXT NOT NULL DEFAULT '', object_id TEXT NOT NULL DEFAULT '', change_id TEXT NOT NULL DEFAULT '', before TEXT NOT NULL DEFAULT '', after TEXT NOT NULL DEFAULT ''
);
CREATE INDEX audit_object ON audit_records (kind, object_id, seq);
-- What is published and what was recorded is never altered.
CREATE TRIGGER audit_no_update BEFORE UPDATE ON audit_records BEGIN SELECT RAISE(ABORT, 'audit records are append-only'); END;
CREATE TRIGGER audit_no_delete BEFORE DELETE ON audit_records BEGIN SELECT RAISE(ABORT, 'audit records are append-only'); END;
CREATE TRIGGER versions_no_update BEFORE UPDATE ON object_versions BEGIN SELECT RAISE(ABORT, 'published versions are kept'); END;
CREATE TRIGGER versions_no_delete BEFORE DELETE ON object_versions BEGIN SELECT RAISE(ABORT, 'published versions are kept'); END;

CREATE TABLE accounts (name TEXT PRIMARY KEY, role TEXT NOT NULL, password_hash TEXT NOT NULL, created_at DATETIME NOT NULL);
CREATE TABLE sessions (hash TEXT PRIMARY KEY, account TEXT NOT NULL REFERENCES accounts(name), created_at DATETIME NOT NULL, expires_at DATETIME NOT NULL);
CREATE TABLE tokens (
  id TEXT PRIMARY KEY, hash TEXT NOT NULL UNIQUE, account TEXT NOT NULL REFERENCES accounts(name), name TEXT NOT NULL, role TEXT NOT NULL,
  created_at DATETIME NOT NULL, expires_at DATETIME NOT NULL
);
-- One-time codes, by hash: of the first administrator, and of the enrolment of a laptop.
CREATE TABLE codes (hash TEXT PRIMARY KEY, purpose TEXT NOT NULL, device TEXT NOT NULL DEFAULT '', created_at DATETIME NOT NULL, expires_at DATETIME NOT NULL, used_at DATETIME);

CREATE TABLE laptops (
  device TEXT PRIMARY KEY, credential TEXT NOT NULL DEFAULT '', enrolled_at DATETIME, last_seen DATETIME, revision TEXT NOT NULL DEFAULT '', digest TEXT NOT NULL DEFAULT '',
  sessions INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE deliveries (
  device TEXT NOT NULL, setting TEXT NOT NULL, wanted TEXT NOT NULL, reported TEXT NOT NULL, status TEXT NOT NULL, code TEXT NOT NULL DEFAULT '', reason TEXT NOT NULL DEFAULT '',
  wanted_at DATETIME NOT NULL, reported_at DATETIME NOT NULL, PRIMARY KEY (device, setting)
) WITHOUT ROWID;
CREATE INDEX deliveries_status ON deliveries (status, setting);
CREATE TABLE check_ins (
  seq INTEGER PRIMARY KEY AUTOINCREMENT, device TEXT NOT NULL, at DATETIME NOT NULL, outcome TEXT NOT NULL, sent INTEGER NOT NULL, applied INTEGER NOT NULL, failed INTEGER NOT NULL,
  messages INTEGER NOT NULL, revision TEXT NOT NULL
);
CREATE INDEX check_ins_device ON check_ins (device, seq);
