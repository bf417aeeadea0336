-- Standard names, and indices for what is looked up by time.
ALTER TABLE audit_records RENAME COLUMN door TO via;
ALTER TABLE clash_events RENAME TO conflict_events;
ALTER TABLE clash_questions RENAME TO conflict_questions;
DROP INDEX clash_events_by_clash;
DROP INDEX clash_questions_by_state;
CREATE INDEX conflict_events_by_conflict ON conflict_events (setting, policies, seq);
CREATE INDEX conflict_events_by_time ON conflict_events (at);
CREATE INDEX conflict_questions_by_state ON conflict_questions (state, at);
CREATE INDEX source_runs_by_time ON source_runs (ended_at);
CREATE INDEX source_history_by_time ON source_history (at);
CREATE INDEX sessions_by_expiry ON sessions (expires_at);
