CREATE TABLE settings (
  key TEXT PRIMARY KEY,
  value TEXT NOT NULL
);

CREATE TABLE people (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  password TEXT NOT NULL,
  role TEXT NOT NULL CHECK (role IN ('administrator', 'clerk', 'reader')),
  made_at DATETIME NOT NULL
);

-- What lets somebody in: a browser's session or a program's token. Only hashes.
CREATE TABLE keys (
  hash BLOB PRIMARY KEY,
  kind TEXT NOT NULL CHECK (kind IN ('session', 'token')),
  id TEXT NOT NULL UNIQUE,
  label TEXT NOT NULL,
  person_id TEXT NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  made_at DATETIME NOT NULL,
  expires_at DATETIME NOT NULL
);

-- A person with rows here sees only these mailboxes; administrators see all.
CREATE TABLE rights (
  person_id TEXT NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  mailbox_id TEXT NOT NULL,
  PRIMARY KEY (person_id, mailbox_id)
);

CREATE TABLE mailboxes (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  kind TEXT NOT NULL,
  host TEXT NOT NULL,
  port INTEGER NOT NULL,
  encryption TEXT NOT NULL,
  username TEXT NOT NULL,
  secret BLOB NOT NULL,
  interval_seconds INTEGER NOT NULL,
  revision INTEGER NOT NULL,
  made_at DATETIME NOT NULL
);

CREATE TABLE cabinets (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  kind TEXT NOT NULL,
  folder TEXT NOT NULL,
  identity TEXT NOT NULL,
  revision INTEGER NOT NULL,
  made_at DATETIME NOT NULL
);

CREATE TABLE rules (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  place INTEGER NOT NULL,
  running BOOLEAN NOT NULL,
  revision INTEGER NOT NULL,
  document TEXT NOT NULL,
  removed BOOLEAN NOT NULL DEFAULT FALSE,
  made_at DATETIME NOT NULL
);

CREATE TABLE rule_revisions (
  rule_id TEXT NOT NULL REFERENCES rules(id),
  revision INTEGER NOT NULL,
  document TEXT NOT NULL,
  made_by TEXT NOT NULL,
  made_at DATETIME NOT NULL,
  PRIMARY KEY (rule_id, revision)
);

-- From where on a rule takes messages of a folder. A uid_validity of 0 waits
-- for the folder to be opened for the first time.
CREATE TABLE start_marks (
  rule_id TEXT NOT NULL REFERENCES rules(id),
  mailbox_id TEXT NOT NULL REFERENCES mailboxes(id) ON DELETE CASCADE,
  folder TEXT NOT NULL,
  uid_validity INTEGER NOT NULL,
  uid_next INTEGER NOT NULL,
  made_at DATETIME NOT NULL,
  PRIMARY KEY (rule_id, mailbox_id, folder)
);

-- How far each mail folder has been looked through.
CREATE TABLE folders (
  mailbox_id TEXT NOT NULL REFERENCES mailboxes(id) ON DELETE CASCADE,
  path TEXT NOT NULL,
  uid_validity INTEGER NOT NULL,
  uid_next INTEGER NOT NULL,
  mod_seq INTEGER NOT NULL,
  looked_at DATETIME NOT NULL,
  PRIMARY KEY (mailbox_id, path)
);

-- Message facts. No bodies.
CREATE TABLE messages (
  id INTEGER PRIMARY KEY,
  mailbox_id TEXT NOT NULL,
  folder TEXT NOT NULL,
  uid_validity INTEGER NOT NULL,
  uid INTEGER NOT NULL,
  fingerprint BLOB NOT NULL,
  received_at DATETIME NOT NULL,
  size INTEGER NOT NULL,
  flags TEXT NOT NULL,
  subject TEXT NOT NULL,
  sender_name TEXT NOT NULL,
  sender_address TEXT NOT NULL,
  attachments INTEGER NOT NULL,
  header BLOB NOT NULL,
  structure BLOB NOT NULL,
  whole BOOLEAN NOT NULL,
  seen_at DATETIME NOT NULL,
  UNIQUE (mailbox_id, folder, uid_validity, uid)
);
CREATE INDEX messages_fingerprint ON messages (fingerprint);
CREATE INDEX messages_received ON messages (mailbox_id, received_at);

CREATE TABLE passes (
  id INTEGER PRIMARY KEY,
  kind TEXT NOT NULL CHECK (kind IN ('live', 'old mail')),
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
  ended_at DATETIME
);
CREATE INDEX passes_state ON passes (state);

-- The journal. Every item passes through it before anything is written.
CREATE TABLE journal (
  id INTEGER PRIMARY KEY,
  rule_id TEXT NOT NULL,
  rule_revision INTEGER NOT NULL,
  message_id INTEGER NOT NULL REFERENCES messages(id),
  item TEXT NOT NULL,
  round INTEGER NOT NULL,
  pass_id INTEGER NOT NULL,
  mailbox_id TEXT NOT NULL,
  cabinet_id TEXT NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('planned', 'staged', 'filed', 'left out', 'held', 'failed', 'already there', 'set aside')),
  name TEXT NOT NULL,
  kind TEXT NOT NULL,
  wanted TEXT NOT NULL,
  path TEXT NOT NULL,
  reason TEXT NOT NULL,
  advice TEXT NOT NULL,
  attempts INTEGER NOT NULL,
  next_at DATETIME,
  size INTEGER NOT NULL,
  sha256 BLOB,
  register_year INTEGER NOT NULL,
  register_number INTEGER NOT NULL,
  planned_at DATETIME NOT NULL,
  announced_at DATETIME,
  done_at DATETIME,
  UNIQUE (rule_id, message_id, item, round)
);
CREATE INDEX journal_state ON journal (state, mailbox_id) WHERE state IN ('planned', 'staged', 'held', 'failed');
CREATE INDEX journal_message ON journal (message_id);
CREATE INDEX journal_pass ON journal (pass_id);

-- Numbers are drawn once and never reused: one that came to nothing is void.
CREATE TABLE register (
  year INTEGER NOT NULL,
  number INTEGER NOT NULL,
  journal_id INTEGER NOT NULL REFERENCES journal(id),
  message_id INTEGER NOT NULL REFERENCES messages(id),
  void TEXT NOT NULL,
  drawn_at DATETIME NOT NULL,
  filed_at DATETIME,
  received_at DATETIME NOT NULL,
  mailbox_id TEXT NOT NULL,
  mailbox TEXT NOT NULL,
  rule_id TEXT NOT NULL,
  rule TEXT NOT NULL,
  cabinet_id TEXT NOT NULL,
  cabinet TEXT NOT NULL,
  sender_name TEXT NOT NULL,
  sender_address TEXT NOT NULL,
  subject TEXT NOT NULL,
  folder TEXT NOT NULL,
  file TEXT NOT NULL,
  kind TEXT NOT NULL,
  size INTEGER NOT NULL,
  sha256 BLOB,
  PRIMARY KEY (year, number)
);
CREATE UNIQUE INDEX register_journal ON register (journal_id);
CREATE INDEX register_filed ON register (filed_at);

-- What waits for a person and is no item: a mailbox out of reach, and the like.
CREATE TABLE notices (
  id INTEGER PRIMARY KEY,
  kind TEXT NOT NULL,
  object TEXT NOT NULL,
  mailbox_id TEXT NOT NULL,
  text TEXT NOT NULL,
  advice TEXT NOT NULL,
  made_at DATETIME NOT NULL,
  UNIQUE (kind, object)
);

CREATE TABLE audit (
  id INTEGER PRIMARY KEY,
  at DATETIME NOT NULL,
  actor TEXT NOT NULL,
  action TEXT NOT NULL,
  object TEXT NOT NULL
);
