-- Messages that could not be read to their end: they are tried again, and wait
-- in the tray after too many tries. "rules" lists the rules that take the
-- message, by id; "*" stands for those whose start marks take it.
CREATE TABLE retries (
  id INTEGER PRIMARY KEY,
  mailbox_id TEXT NOT NULL,
  folder TEXT NOT NULL,
  uid_validity INTEGER NOT NULL,
  uid INTEGER NOT NULL,
  message_id INTEGER NOT NULL DEFAULT 0,
  subject TEXT NOT NULL DEFAULT '',
  sender TEXT NOT NULL DEFAULT '',
  rules TEXT NOT NULL DEFAULT '[]',
  pass_id INTEGER NOT NULL DEFAULT 0,
  state TEXT NOT NULL CHECK (state IN ('suspect', 'waiting', 'failed', 'set aside')),
  attempts INTEGER NOT NULL DEFAULT 0,
  crashes INTEGER NOT NULL DEFAULT 0,
  cause TEXT NOT NULL DEFAULT '',
  reason TEXT NOT NULL DEFAULT '',
  advice TEXT NOT NULL DEFAULT '',
  next_at DATETIME,
  made_at DATETIME NOT NULL,
  done_at DATETIME,
  UNIQUE (mailbox_id, folder, uid_validity, uid)
);
CREATE INDEX retries_waiting ON retries (mailbox_id, next_at) WHERE state = 'waiting';
CREATE INDEX retries_pass ON retries (pass_id) WHERE pass_id > 0;
CREATE INDEX retries_message ON retries (message_id) WHERE message_id > 0;

-- Messages that were passed over because the program had ended while it read
-- them are tried again: most of these ends had other causes.
INSERT INTO retries (mailbox_id, folder, uid_validity, uid, rules, message_id, state, made_at)
SELECT d.mailbox_id, d.folder, d.uid_validity, d.uid, '["*"]',
  coalesce((SELECT m.id FROM messages m WHERE m.mailbox_id = d.mailbox_id AND m.folder = d.folder AND m.uid_validity = d.uid_validity AND m.uid = d.uid), 0),
  'waiting', CURRENT_TIMESTAMP FROM deaths d WHERE d.count >= 3;
DROP TABLE deaths;

-- How many messages of a pass were gone before they were read, and how many
-- could not be read.
ALTER TABLE passes ADD COLUMN gone INTEGER NOT NULL DEFAULT 0;
ALTER TABLE passes ADD COLUMN unread INTEGER NOT NULL DEFAULT 0;

-- When a rule was switched on: mail that arrives from then on is new to it.
ALTER TABLE rules ADD COLUMN on_at DATETIME;
UPDATE rules SET on_at = (SELECT min(made_at) FROM start_marks s WHERE s.rule_id = rules.id) WHERE running;

-- A rule named this folder while the mailbox did not have it.
ALTER TABLE start_marks ADD COLUMN awaited BOOLEAN NOT NULL DEFAULT FALSE;

-- From where the time of receipt is known.
ALTER TABLE messages ADD COLUMN received_from TEXT NOT NULL DEFAULT 'server';

-- Messages for drop addresses that were refused for good.
CREATE TABLE rejections (
  id INTEGER PRIMARY KEY,
  mailbox_id TEXT NOT NULL,
  sender TEXT NOT NULL,
  reason TEXT NOT NULL,
  at DATETIME NOT NULL
);
CREATE INDEX rejections_mailbox ON rejections (mailbox_id, at);

-- Which change of a setting it is, so that two people do not overwrite each other.
ALTER TABLE settings ADD COLUMN revision INTEGER NOT NULL DEFAULT 1;

-- Under what name the content is staged in the cabinet. It names the run that
-- staged it: a copy of the records has the same entries.
ALTER TABLE journal ADD COLUMN temporary TEXT NOT NULL DEFAULT '';

-- Which folder was made for it, so that taking it back can remove it again.
ALTER TABLE journal ADD COLUMN made TEXT NOT NULL DEFAULT '';

-- A register that is kept as a file may have one line for each message.
ALTER TABLE register_files ADD COLUMN per TEXT NOT NULL DEFAULT 'filing' CHECK (per IN ('filing', 'message'));
CREATE INDEX journal_made ON journal (cabinet_id, made) WHERE made <> '';
