-- Enrolment by certificate. An invitation has a code for each laptop that may enrol with it; codes are kept hashed.
CREATE TABLE invitations (
  id TEXT PRIMARY KEY, device TEXT NOT NULL, person TEXT NOT NULL, unit TEXT NOT NULL, makes BOOLEAN NOT NULL, approval BOOLEAN NOT NULL,
  "by" TEXT NOT NULL, at DATETIME NOT NULL, expires_at DATETIME NOT NULL, withdrawn_at DATETIME
) WITHOUT ROWID;
-- state: unused, waiting (for an approval), approved, issued, refused. request is the SHA-256 of the request that used the code.
CREATE TABLE invitation_codes (
  hash TEXT PRIMARY KEY, invitation TEXT NOT NULL, state TEXT NOT NULL DEFAULT 'unused', device TEXT NOT NULL DEFAULT '', serial_number TEXT NOT NULL DEFAULT '',
  model TEXT NOT NULL DEFAULT '', request TEXT NOT NULL DEFAULT '', used_at DATETIME, certificate TEXT NOT NULL DEFAULT '', decided_by TEXT NOT NULL DEFAULT '',
  decided_at DATETIME
) WITHOUT ROWID;
CREATE INDEX invitation_codes_invitation ON invitation_codes (invitation);
CREATE INDEX invitation_codes_state ON invitation_codes (state);
-- Certificates of laptops, by serial number in hexadecimal. ends_at is when a replaced one counts no more, whether or not it was revoked.
CREATE TABLE certificates (
  serial TEXT PRIMARY KEY, device TEXT NOT NULL, enrolment TEXT NOT NULL, der BLOB NOT NULL, issued_at DATETIME NOT NULL, not_before DATETIME NOT NULL,
  not_after DATETIME NOT NULL, replaces TEXT NOT NULL DEFAULT '', used_at DATETIME, ends_at DATETIME, revoked_at DATETIME, reason TEXT NOT NULL DEFAULT '',
  revoked_by TEXT NOT NULL DEFAULT ''
) WITHOUT ROWID;
CREATE INDEX certificates_device ON certificates (device);
