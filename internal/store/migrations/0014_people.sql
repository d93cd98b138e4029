-- Who may come in, and what each of them may see.
ALTER TABLE people ADD COLUMN mail TEXT NOT NULL DEFAULT '';
ALTER TABLE people ADD COLUMN locked_at DATETIME;
ALTER TABLE people ADD COLUMN signed_in_at DATETIME;
ALTER TABLE people ADD COLUMN all_mailboxes BOOLEAN NOT NULL DEFAULT TRUE;
ALTER TABLE people ADD COLUMN all_cabinets BOOLEAN NOT NULL DEFAULT TRUE;
ALTER TABLE people ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;
UPDATE people SET all_mailboxes = FALSE WHERE role <> 'administrator' AND id IN (SELECT person_id FROM rights);

-- Several people with the same rights.
CREATE TABLE groups (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  all_mailboxes BOOLEAN NOT NULL,
  all_cabinets BOOLEAN NOT NULL,
  revision INTEGER NOT NULL,
  made_at DATETIME NOT NULL
);
CREATE TABLE members (
  person_id TEXT NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  group_id TEXT NOT NULL REFERENCES groups(id) ON DELETE CASCADE,
  PRIMARY KEY (person_id, group_id)
) WITHOUT ROWID;
CREATE INDEX members_group ON members (group_id);

-- The mailboxes and cabinets that a person or a group may see. Where somebody sees all, they are kept and do not count.
CREATE TABLE grants (
  holder TEXT NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('mailbox', 'cabinet')),
  object TEXT NOT NULL,
  PRIMARY KEY (holder, kind, object)
) WITHOUT ROWID;
CREATE INDEX grants_object ON grants (kind, object);
INSERT INTO grants (holder, kind, object) SELECT person_id, 'mailbox', mailbox_id FROM rights;
DROP TABLE rights;

-- What lets somebody in: where it was used last, and what it is good for; '' is all that the person may do.
ALTER TABLE keys ADD COLUMN scope TEXT NOT NULL DEFAULT '';
ALTER TABLE keys ADD COLUMN used_at DATETIME;
ALTER TABLE keys ADD COLUMN place TEXT NOT NULL DEFAULT '';
ALTER TABLE keys ADD COLUMN program TEXT NOT NULL DEFAULT '';
CREATE INDEX keys_person ON keys (person_id);

-- Links that let a person choose a password, once. Only hashes.
CREATE TABLE links (
  hash BLOB PRIMARY KEY,
  person_id TEXT NOT NULL UNIQUE REFERENCES people(id) ON DELETE CASCADE,
  made_by TEXT NOT NULL,
  made_at DATETIME NOT NULL,
  expires_at DATETIME NOT NULL
);

-- What was done, by whom, from where and with which key; changes is JSON: what was changed, before and after.
ALTER TABLE audit ADD COLUMN place TEXT NOT NULL DEFAULT '';
ALTER TABLE audit ADD COLUMN token TEXT NOT NULL DEFAULT '';
ALTER TABLE audit ADD COLUMN changes TEXT NOT NULL DEFAULT '';
CREATE INDEX audit_at ON audit (at);
CREATE TRIGGER audit_unchanged BEFORE UPDATE ON audit
  BEGIN SELECT RAISE(ABORT, 'the audit trail is not changed'); END;
CREATE TRIGGER audit_kept BEFORE DELETE ON audit WHEN OLD.at > datetime('now', '-30 days')
  BEGIN SELECT RAISE(ABORT, 'the audit trail is kept for 30 days at least'); END;
