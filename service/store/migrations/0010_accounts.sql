-- Accounts can be disabled, and sessions say where they come from.
ALTER TABLE accounts ADD COLUMN disabled NUMERIC NOT NULL DEFAULT 0;
ALTER TABLE sessions ADD COLUMN address TEXT NOT NULL DEFAULT '';
