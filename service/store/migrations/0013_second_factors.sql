-- One-time codes (RFC 6238) with recovery codes, and when a session was used and confirmed last.
ALTER TABLE accounts ADD COLUMN totp TEXT NOT NULL DEFAULT '';
ALTER TABLE accounts ADD COLUMN totp_pending TEXT NOT NULL DEFAULT '';
ALTER TABLE accounts ADD COLUMN totp_step INTEGER NOT NULL DEFAULT 0;
ALTER TABLE sessions ADD COLUMN used_at DATETIME;
ALTER TABLE sessions ADD COLUMN confirmed_at DATETIME;
UPDATE sessions SET used_at = created_at, confirmed_at = created_at;
CREATE TABLE recovery_codes (
  account TEXT NOT NULL, hash TEXT NOT NULL, created_at DATETIME NOT NULL, PRIMARY KEY (account, hash)
) WITHOUT ROWID;
