-- What is found of a filed file at the last verification, and what was erased.
ALTER TABLE register ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;
ALTER TABLE register ADD COLUMN checked_at DATETIME;
ALTER TABLE register ADD COLUMN check_state TEXT NOT NULL DEFAULT '' CHECK (check_state IN ('', 'missing', 'changed'));
ALTER TABLE register ADD COLUMN check_settled BOOLEAN NOT NULL DEFAULT FALSE;
ALTER TABLE register ADD COLUMN erased_at DATETIME;
UPDATE register SET revision = coalesce((SELECT rule_revision FROM journal j WHERE j.id = register.journal_id), 0);
CREATE INDEX register_tray ON register (check_state) WHERE check_state <> '' AND check_settled = FALSE;
CREATE INDEX register_due ON register (coalesce(checked_at, filed_at), year, number) WHERE filed_at IS NOT NULL AND undone_at IS NULL AND replaced_by = '' AND check_settled = FALSE;
CREATE INDEX register_verified ON register (mailbox_id) WHERE checked_at IS NOT NULL AND filed_at IS NOT NULL AND undone_at IS NULL AND replaced_by = '' AND check_settled = FALSE;
CREATE INDEX register_message ON register (message_id);

-- What people wrote about a filing.
CREATE TABLE register_notes (
  id INTEGER PRIMARY KEY,
  year INTEGER NOT NULL,
  number INTEGER NOT NULL,
  text TEXT NOT NULL,
  made_by TEXT NOT NULL,
  made_at DATETIME NOT NULL,
  FOREIGN KEY (year, number) REFERENCES register (year, number)
);
CREATE INDEX register_notes_of ON register_notes (year, number);

-- What happened to a filing later.
CREATE TABLE register_events (
  id INTEGER PRIMARY KEY,
  year INTEGER NOT NULL,
  number INTEGER NOT NULL,
  at DATETIME NOT NULL,
  kind TEXT NOT NULL,
  made_by TEXT NOT NULL,
  text TEXT NOT NULL
);
CREATE INDEX register_events_of ON register_events (year, number);

-- Which lines changed, so that what is held in memory follows, whoever changes them.
CREATE TABLE register_changes (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  year INTEGER NOT NULL,
  number INTEGER NOT NULL
);
INSERT INTO register_changes (year, number) SELECT year, max(number) FROM register GROUP BY year;
CREATE TRIGGER register_added AFTER INSERT ON register BEGIN INSERT INTO register_changes (year, number) VALUES (new.year, new.number); END;
CREATE TRIGGER register_changed AFTER UPDATE OF void, filed_at, undone_at, replaced_by, check_state, sender_name, sender_address, subject, folder, file, kind, size ON register BEGIN INSERT INTO register_changes (year, number) VALUES (new.year, new.number); END;
CREATE TRIGGER register_note_added AFTER INSERT ON register_notes BEGIN INSERT INTO register_changes (year, number) VALUES (new.year, new.number); END;
CREATE TRIGGER register_note_removed AFTER DELETE ON register_notes BEGIN INSERT INTO register_changes (year, number) VALUES (old.year, old.number); END;
CREATE TRIGGER register_taken_back AFTER UPDATE OF undone_at ON register WHEN old.undone_at IS NULL AND new.undone_at IS NOT NULL BEGIN INSERT INTO register_events (year, number, at, kind, made_by, text) VALUES (new.year, new.number, new.undone_at, 'taken back', new.undone_by, ''); END;
CREATE TRIGGER register_replaced AFTER UPDATE OF replaced_by ON register WHEN old.replaced_by <> new.replaced_by BEGIN INSERT INTO register_events (year, number, at, kind, made_by, text) VALUES (new.year, new.number, coalesce(new.kept_at, strftime('%Y-%m-%d %H:%M:%f+00:00', 'now')), CASE new.replaced_by WHEN '' THEN 'put back' ELSE 'replaced' END, '', new.replaced_by); END;
INSERT INTO register_events (year, number, at, kind, made_by, text) SELECT year, number, undone_at, 'taken back', undone_by, '' FROM register WHERE undone_at IS NOT NULL;
INSERT INTO register_events (year, number, at, kind, made_by, text) SELECT year, number, kept_at, 'replaced', '', replaced_by FROM register WHERE replaced_by <> '' AND kept_at IS NOT NULL;

-- How colleagues reach a cabinet from their machines.
ALTER TABLE cabinets ADD COLUMN address TEXT NOT NULL DEFAULT '';

-- Registers that are kept as files in a cabinet.
CREATE TABLE register_files (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  cabinet_id TEXT NOT NULL,
  folder TEXT NOT NULL,
  format TEXT NOT NULL CHECK (format IN ('csv', 'xlsx')),
  scope TEXT NOT NULL CHECK (scope IN ('all', 'rule', 'folder')),
  rule_id TEXT NOT NULL,
  of_folder TEXT NOT NULL,
  columns TEXT NOT NULL,
  revision INTEGER NOT NULL,
  made_by TEXT NOT NULL,
  made_at DATETIME NOT NULL,
  last_change INTEGER NOT NULL,
  problem TEXT NOT NULL,
  advice TEXT NOT NULL
);
CREATE TABLE register_file_years (
  file_id TEXT NOT NULL REFERENCES register_files(id) ON DELETE CASCADE,
  year INTEGER NOT NULL,
  path TEXT NOT NULL,
  sha256 BLOB,
  next_sha256 BLOB,
  rows INTEGER NOT NULL,
  written_at DATETIME,
  PRIMARY KEY (file_id, year)
);

-- What each person chose for the pages.
CREATE TABLE preferences (
  person_id TEXT NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  key TEXT NOT NULL,
  value TEXT NOT NULL,
  PRIMARY KEY (person_id, key)
) WITHOUT ROWID;

ALTER TABLE messages ADD COLUMN erased_at DATETIME;
CREATE INDEX messages_sender ON messages (sender_address COLLATE NOCASE);

CREATE TABLE passes_new (
  id INTEGER PRIMARY KEY,
  kind TEXT NOT NULL CHECK (kind IN ('live', 'old mail', 'undo', 'again', 'verification')),
  rule_id TEXT NOT NULL,
  mailbox_id TEXT NOT NULL,
  made_by TEXT NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('running', 'paused', 'stopped', 'done', 'failed')),
  since DATETIME,
  most INTEGER NOT NULL,
  total INTEGER NOT NULL,
  looked INTEGER NOT NULL,
  matched INTEGER NOT NULL,
  position TEXT NOT NULL,
  note TEXT NOT NULL,
  started_at DATETIME NOT NULL,
  ended_at DATETIME,
  per_minute INTEGER NOT NULL DEFAULT 0,
  from_time TEXT NOT NULL DEFAULT '',
  to_time TEXT NOT NULL DEFAULT '',
  undoes INTEGER NOT NULL DEFAULT 0
);
INSERT INTO passes_new SELECT id, kind, rule_id, mailbox_id, made_by, state, since, most, total, looked, matched, position, note, started_at, ended_at, per_minute, from_time, to_time, undoes FROM passes;
DROP TABLE passes;
ALTER TABLE passes_new RENAME TO passes;
CREATE INDEX passes_state ON passes (state);
