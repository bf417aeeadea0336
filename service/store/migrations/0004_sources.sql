-- Where people, units, groups and laptops come from. What a source brought is kept apart from what was edited here: `objects`
-- holds the latter, with the fields of a brought object that are edited here listed in `local`.
CREATE TABLE sources (
  id TEXT PRIMARY KEY, kind TEXT NOT NULL, title TEXT NOT NULL, state TEXT NOT NULL, version INTEGER NOT NULL,
  setup TEXT NOT NULL DEFAULT '', proposed TEXT NOT NULL DEFAULT '', mark TEXT NOT NULL DEFAULT '',
  created_by TEXT NOT NULL, created_at DATETIME NOT NULL, read_at DATETIME, compared_at DATETIME
);
CREATE TABLE source_records (
  source TEXT NOT NULL REFERENCES sources(id), kind TEXT NOT NULL, key TEXT NOT NULL, object_id TEXT NOT NULL DEFAULT '',
  place TEXT NOT NULL DEFAULT '', brought TEXT NOT NULL DEFAULT '', resource TEXT NOT NULL DEFAULT '', name TEXT NOT NULL DEFAULT '', external TEXT NOT NULL DEFAULT '',
  version INTEGER NOT NULL, created_at DATETIME NOT NULL, altered_at DATETIME NOT NULL, left_at DATETIME, fault TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (source, kind, key)
) WITHOUT ROWID;
CREATE UNIQUE INDEX source_object ON source_records (kind, object_id) WHERE object_id <> '';
CREATE INDEX source_name ON source_records (name, source, kind);
CREATE INDEX source_external ON source_records (external, source, kind) WHERE external <> '';
CREATE INDEX source_left ON source_records (source, left_at) WHERE left_at IS NOT NULL;
CREATE TABLE source_runs (
  seq INTEGER PRIMARY KEY AUTOINCREMENT, source TEXT NOT NULL REFERENCES sources(id), way TEXT NOT NULL, state TEXT NOT NULL, "by" TEXT NOT NULL,
  started_at DATETIME NOT NULL, ended_at DATETIME, report TEXT NOT NULL DEFAULT ''
);
CREATE INDEX source_run ON source_runs (source, seq);
CREATE TABLE source_history (
  seq INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT NOT NULL, object_id TEXT NOT NULL, source TEXT NOT NULL, run INTEGER NOT NULL, at DATETIME NOT NULL, what TEXT NOT NULL, fields TEXT NOT NULL DEFAULT ''
);
CREATE INDEX source_history_object ON source_history (kind, object_id, seq);
CREATE TABLE source_tokens (
  id TEXT PRIMARY KEY, source TEXT NOT NULL REFERENCES sources(id), hash TEXT NOT NULL UNIQUE, name TEXT NOT NULL, created_by TEXT NOT NULL, created_at DATETIME NOT NULL,
  used_at DATETIME, revoked_at DATETIME
);
ALTER TABLE objects ADD COLUMN local TEXT NOT NULL DEFAULT '';
ALTER TABLE object_versions ADD COLUMN local TEXT NOT NULL DEFAULT '';
ALTER TABLE edits ADD COLUMN local TEXT NOT NULL DEFAULT '';
CREATE TABLE saved_views (
  id TEXT PRIMARY KEY, page TEXT NOT NULL, title TEXT NOT NULL, query TEXT NOT NULL, owner TEXT NOT NULL, shared INTEGER NOT NULL DEFAULT 0, created_at DATETIME NOT NULL
);
CREATE TABLE exception_requests (
  id TEXT PRIMARY KEY, body TEXT NOT NULL, state TEXT NOT NULL, asked_by TEXT NOT NULL, asked_at DATETIME NOT NULL, decided_by TEXT NOT NULL DEFAULT '', decided_at DATETIME, note TEXT NOT NULL DEFAULT '',
  revision INTEGER NOT NULL DEFAULT 0
);
