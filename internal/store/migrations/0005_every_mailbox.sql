-- Mailboxes of every kind. What only some kinds have is in "particulars", JSON.
ALTER TABLE mailboxes ADD COLUMN path TEXT NOT NULL DEFAULT '';
ALTER TABLE mailboxes ADD COLUMN address TEXT NOT NULL DEFAULT '';
ALTER TABLE mailboxes ADD COLUMN particulars TEXT NOT NULL DEFAULT '{}';
CREATE UNIQUE INDEX mailboxes_address ON mailboxes (address COLLATE NOCASE) WHERE address <> '';

-- The numbers of messages that have lasting names and no numbers of their own:
-- files, and the unique-ids of POP3.
CREATE TABLE numberings (
  mailbox_id TEXT NOT NULL,
  folder TEXT NOT NULL,
  uid_validity INTEGER NOT NULL,
  uid_next INTEGER NOT NULL,
  PRIMARY KEY (mailbox_id, folder)
) WITHOUT ROWID;
CREATE TABLE numbers (
  mailbox_id TEXT NOT NULL,
  folder TEXT NOT NULL,
  name TEXT NOT NULL,
  uid INTEGER NOT NULL,
  PRIMARY KEY (mailbox_id, folder, name)
) WITHOUT ROWID;

-- The kinds of passes are no longer listed here: one more needs no new table.
CREATE TABLE passes_new (
  id INTEGER PRIMARY KEY,
  kind TEXT NOT NULL,
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

-- What people file by hand goes the way of everything else, under a rule that
-- looks nowhere and is not listed.
INSERT INTO rules (id, name, place, running, revision, document, removed, made_at)
SELECT 'by-hand', CASE WHEN EXISTS (SELECT 1 FROM rules WHERE name = 'by hand' COLLATE NOCASE) THEN 'by hand (a person)' ELSE 'by hand' END, 0, FALSE, 1,
  '{"id":"by-hand","name":"by hand","cabinet":"by hand","look":{"mailboxes":["all"]},"match":"every message","attachments":[{"take":"everything","folder":"By hand"}],"copies":[{"as":"eml"}],"leave out":[]}', TRUE, CURRENT_TIMESTAMP;
INSERT INTO rule_revisions (rule_id, revision, document, made_by, made_at) SELECT 'by-hand', 1, document, 'Ink Tray', made_at FROM rules WHERE id = 'by-hand';
