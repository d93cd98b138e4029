-- After a backup was restored: files of the cabinets that the restored records do not know. What was filed after the
-- backup was made is recognised among them, and not filed again.
CREATE TABLE restored_files (
  id INTEGER PRIMARY KEY,
  cabinet_id TEXT NOT NULL REFERENCES cabinets(id) ON DELETE CASCADE,
  path TEXT NOT NULL,
  kept BOOLEAN NOT NULL,
  known BOOLEAN NOT NULL,
  size INTEGER NOT NULL,
  modified DATETIME,
  sha256 BLOB,
  journal_id INTEGER NOT NULL DEFAULT 0,
  UNIQUE (cabinet_id, kept, path)
);
CREATE INDEX restored_files_size ON restored_files (cabinet_id, size);
