-- The id of the request that did what is recorded; the service's log has it, too.
ALTER TABLE audit_records ADD COLUMN request TEXT NOT NULL DEFAULT '';
