-- Contents of files in parts of 1 MiB: a large row is held in memory several times while it is written and read.
CREATE TABLE file_parts (
  sha256 TEXT NOT NULL REFERENCES files(sha256), part INTEGER NOT NULL, data BLOB NOT NULL, PRIMARY KEY (sha256, part)
);
WITH RECURSIVE cut(sha256, part, size) AS (
  SELECT sha256, 0, length(data) FROM file_contents
  UNION ALL
  SELECT sha256, part + 1, size FROM cut WHERE (part + 1) * 1048576 < size
)
INSERT INTO file_parts SELECT cut.sha256, cut.part, coalesce(substr(whole.data, cut.part * 1048576 + 1, 1048576), x'')
FROM cut JOIN file_contents whole ON whole.sha256 = cut.sha256;
DROP TABLE file_contents;
CREATE TRIGGER file_parts_no_update BEFORE UPDATE ON file_parts BEGIN SELECT RAISE(ABORT, 'files are kept as they came'); END;
