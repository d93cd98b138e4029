-- Topics, and the messages by which people taught them. An example keeps the text
-- from which it is learned, until it is taken back.
CREATE TABLE topics (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  revision INTEGER NOT NULL,
  made_at DATETIME NOT NULL
);
CREATE TABLE topic_examples (
  id INTEGER PRIMARY KEY,
  topic_id TEXT NOT NULL REFERENCES topics (id) ON DELETE CASCADE,
  fingerprint BLOB NOT NULL,
  message_id INTEGER NOT NULL DEFAULT 0,
  mailbox_id TEXT NOT NULL DEFAULT '',
  about BOOLEAN NOT NULL,
  subject TEXT NOT NULL,
  text TEXT NOT NULL,
  sender_name TEXT NOT NULL DEFAULT '',
  sender_address TEXT NOT NULL DEFAULT '',
  names TEXT NOT NULL DEFAULT '[]',
  origin TEXT NOT NULL,
  marked_by TEXT NOT NULL,
  marked_at DATETIME NOT NULL,
  UNIQUE (topic_id, fingerprint)
);

-- What is held because a topic is in doubt says which, so that a decision can teach it.
ALTER TABLE journal ADD COLUMN topic TEXT NOT NULL DEFAULT '';

-- New installations reply to verified senders only. Where a rule replies already it
-- goes on as it did, until somebody decides.
INSERT INTO settings (key, value)
SELECT 'trust', '{"servers":[],"replies":false,"correspondents":false}' WHERE EXISTS (SELECT 1 FROM rules WHERE NOT removed AND document LIKE '%"reply"%');
