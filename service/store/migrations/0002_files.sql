-- Files that values name: once by their SHA-256, never altered. Contents stand apart, so that lists do not read them.
CREATE TABLE files (
  sha256 TEXT PRIMARY KEY, name TEXT NOT NULL, media_type TEXT NOT NULL, content TEXT NOT NULL, size INTEGER NOT NULL, reading TEXT NOT NULL,
  "by" TEXT NOT NULL, at DATETIME NOT NULL
) WITHOUT ROWID;
CREATE TABLE file_contents (sha256 TEXT PRIMARY KEY REFERENCES files(sha256), data BLOB NOT NULL);
CREATE TRIGGER files_no_update BEFORE UPDATE ON files BEGIN SELECT RAISE(ABORT, 'files are kept as they came'); END;
CREATE TRIGGER contents_no_update BEFORE UPDATE ON file_contents BEGIN SELECT RAISE(ABORT, 'files are kept as they came'); END;
