-- Roles that were defined here, and who has which role where. Accounts get a grant of the role that they had.
CREATE TABLE roles (
  id TEXT PRIMARY KEY, title TEXT NOT NULL, rights TEXT NOT NULL, "by" TEXT NOT NULL, at DATETIME NOT NULL
) WITHOUT ROWID;
CREATE TABLE grants (
  id TEXT PRIMARY KEY, account TEXT NOT NULL DEFAULT '', "group" TEXT NOT NULL DEFAULT '', role TEXT NOT NULL, unit TEXT NOT NULL DEFAULT '',
  "from" TEXT NOT NULL DEFAULT '', until TEXT NOT NULL DEFAULT '', "by" TEXT NOT NULL, at DATETIME NOT NULL
) WITHOUT ROWID;
CREATE INDEX grants_account ON grants (account);
INSERT INTO grants (id, account, role, "by", at) SELECT 'G-' || lower(hex(randomblob(5))), name, role, 'service', created_at FROM accounts;
ALTER TABLE accounts DROP COLUMN role;
