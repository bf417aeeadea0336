-- Accounts that sign in through an OpenID Connect issuer: the issuer and the subject, by which it names them.
ALTER TABLE accounts ADD COLUMN subject TEXT NOT NULL DEFAULT '';
CREATE UNIQUE INDEX accounts_subject ON accounts (subject) WHERE subject <> '';
