-- What is done with a message once its attachments are filed.
CREATE TABLE follow_ups (
  id INTEGER PRIMARY KEY,
  message_id INTEGER NOT NULL REFERENCES messages(id),
  mailbox_id TEXT NOT NULL,
  rule_id TEXT NOT NULL,
  rule_revision INTEGER NOT NULL,
  round INTEGER NOT NULL,
  place INTEGER NOT NULL,
  pass_id INTEGER NOT NULL,
  kind TEXT NOT NULL,
  what TEXT NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('waiting', 'begun', 'done', 'left out', 'failed', 'unsure', 'set aside')),
  cause TEXT NOT NULL,
  reason TEXT NOT NULL,
  advice TEXT NOT NULL,
  attempts INTEGER NOT NULL,
  next_at DATETIME,
  from_folder TEXT NOT NULL,
  from_validity INTEGER NOT NULL,
  from_uid INTEGER NOT NULL,
  made_at DATETIME NOT NULL,
  done_at DATETIME,
  UNIQUE (rule_id, message_id, round, place)
);
CREATE INDEX follow_ups_state ON follow_ups (state, mailbox_id) WHERE state IN ('waiting', 'begun', 'failed', 'unsure');
CREATE INDEX follow_ups_message ON follow_ups (message_id);
CREATE INDEX follow_ups_from ON follow_ups (mailbox_id, from_folder, from_uid) WHERE from_uid > 0;
CREATE INDEX follow_ups_pass ON follow_ups (pass_id);

-- What leaves the service: replies, tidings, digests, alarms. Everything that
-- is needed to send it is in its row.
CREATE TABLE post (
  id INTEGER PRIMARY KEY,
  follow_up_id INTEGER NOT NULL,
  message_id INTEGER NOT NULL,
  mailbox_id TEXT NOT NULL,
  rule_id TEXT NOT NULL,
  purpose TEXT NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('mail', 'call')),
  addressee_id TEXT NOT NULL,
  recipients TEXT NOT NULL,
  subject TEXT NOT NULL,
  content BLOB NOT NULL,
  event TEXT NOT NULL UNIQUE,
  state TEXT NOT NULL CHECK (state IN ('waiting', 'begun', 'done', 'failed', 'unsure', 'set aside')),
  cause TEXT NOT NULL,
  reason TEXT NOT NULL,
  advice TEXT NOT NULL,
  attempts INTEGER NOT NULL,
  next_at DATETIME,
  made_at DATETIME NOT NULL,
  done_at DATETIME
);
CREATE INDEX post_state ON post (state) WHERE state IN ('waiting', 'begun', 'failed', 'unsure');
CREATE INDEX post_reply ON post (rule_id, recipients, made_at) WHERE purpose = 'reply';

-- Who can be told: by mail, or by a call to an address of their own.
CREATE TABLE addressees (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  kind TEXT NOT NULL CHECK (kind IN ('mail', 'call')),
  addresses TEXT NOT NULL,
  url TEXT NOT NULL,
  secret BLOB NOT NULL,
  inside BOOLEAN NOT NULL,
  tray TEXT NOT NULL CHECK (tray IN ('never', 'at once', 'daily')),
  daily_at TEXT NOT NULL,
  told_at DATETIME,
  revision INTEGER NOT NULL,
  made_at DATETIME NOT NULL
);

CREATE TABLE alarms (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  kind TEXT NOT NULL CHECK (kind IN ('silence', 'out of reach')),
  rule_id TEXT NOT NULL,
  at_least INTEGER NOT NULL,
  within_hours INTEGER NOT NULL,
  by_time TEXT NOT NULL,
  weekdays TEXT NOT NULL,
  object TEXT NOT NULL,
  after_minutes INTEGER NOT NULL,
  who TEXT NOT NULL,
  checked_at DATETIME,
  rang_at DATETIME,
  revision INTEGER NOT NULL,
  made_at DATETIME NOT NULL
);

-- Since when a mailbox or cabinet has been out of reach.
CREATE TABLE outages (
  kind TEXT NOT NULL,
  object TEXT NOT NULL,
  since DATETIME NOT NULL,
  told TEXT NOT NULL,
  PRIMARY KEY (kind, object)
);

-- Messages on which the program ended while it read them.
CREATE TABLE deaths (
  mailbox_id TEXT NOT NULL,
  folder TEXT NOT NULL,
  uid_validity INTEGER NOT NULL,
  uid INTEGER NOT NULL,
  count INTEGER NOT NULL,
  PRIMARY KEY (mailbox_id, folder, uid_validity, uid)
);

-- Which messages a pass looked at.
CREATE TABLE pass_messages (
  pass_id INTEGER NOT NULL,
  message_id INTEGER NOT NULL,
  matched BOOLEAN NOT NULL,
  PRIMARY KEY (pass_id, message_id)
) WITHOUT ROWID;
CREATE INDEX pass_messages_message ON pass_messages (message_id);

CREATE TABLE passes_new (
  id INTEGER PRIMARY KEY,
  kind TEXT NOT NULL CHECK (kind IN ('live', 'old mail', 'undo', 'again')),
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
INSERT INTO passes_new SELECT id, kind, rule_id, mailbox_id, made_by, state, since, most, total, looked, matched, position, note, started_at, ended_at, per_minute, from_time, to_time, 0 FROM passes;
DROP TABLE passes;
ALTER TABLE passes_new RENAME TO passes;
CREATE INDEX passes_state ON passes (state);

-- Why an item waits, as a word to group by; what a person decided about it; a
-- copy of its content that waits here for its cabinet; and its undoing.
ALTER TABLE journal ADD COLUMN cause TEXT NOT NULL DEFAULT '';
ALTER TABLE journal ADD COLUMN given TEXT NOT NULL DEFAULT '';
ALTER TABLE journal ADD COLUMN spooled TEXT NOT NULL DEFAULT '';
ALTER TABLE journal ADD COLUMN undo TEXT NOT NULL DEFAULT '';
ALTER TABLE journal ADD COLUMN undo_pass INTEGER NOT NULL DEFAULT 0;
CREATE INDEX journal_undo ON journal (undo) WHERE undo = 'asked';
CREATE INDEX journal_undo_pass ON journal (undo_pass) WHERE undo_pass > 0;
CREATE INDEX journal_path ON journal (cabinet_id, path) WHERE path <> '';
UPDATE journal SET cause = 'other' WHERE state IN ('held', 'failed');
ALTER TABLE register ADD COLUMN undone_at DATETIME;
ALTER TABLE register ADD COLUMN kept_at DATETIME;
UPDATE register SET kept_at = filed_at WHERE kept_as <> '';
ALTER TABLE register ADD COLUMN undone_by TEXT NOT NULL DEFAULT '';
ALTER TABLE messages ADD COLUMN moving_to TEXT NOT NULL DEFAULT '';
