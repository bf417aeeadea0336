-- Whether the password was chosen by somebody else: then nothing but choosing another one is allowed.
ALTER TABLE accounts ADD COLUMN password_due BOOLEAN NOT NULL DEFAULT FALSE;
