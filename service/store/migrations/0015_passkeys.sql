-- Passkeys (WebAuthn), and whether a session was opened by one.
ALTER TABLE accounts ADD COLUMN handle TEXT NOT NULL DEFAULT '';
ALTER TABLE sessions ADD COLUMN strong NUMERIC NOT NULL DEFAULT 0;
CREATE TABLE passkeys (
  id TEXT PRIMARY KEY, account TEXT NOT NULL, name TEXT NOT NULL, data TEXT NOT NULL, created_at DATETIME NOT NULL, used_at DATETIME
) WITHOUT ROWID;
CREATE INDEX passkeys_account ON passkeys (account);
