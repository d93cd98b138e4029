-- SQLite uses an index of some rows only for conditions that repeat its own condition word by word. These are the
-- conditions that a look into a mailbox asks for, so that no look goes through all that was ever filed.
DROP INDEX journal_state;
CREATE INDEX journal_planned ON journal (mailbox_id, next_at) WHERE state = 'planned';
CREATE INDEX journal_staged ON journal (cabinet_id) WHERE state = 'staged';
CREATE INDEX journal_tray ON journal (mailbox_id) WHERE state IN ('held', 'failed');
DROP INDEX follow_ups_state;
CREATE INDEX follow_ups_open ON follow_ups (mailbox_id, next_at) WHERE state IN ('waiting', 'begun');
CREATE INDEX follow_ups_tray ON follow_ups (mailbox_id) WHERE state IN ('failed', 'unsure');
DROP INDEX post_state;
CREATE INDEX post_open ON post (id) WHERE state IN ('waiting', 'begun');
CREATE INDEX post_tray ON post (mailbox_id) WHERE state IN ('failed', 'unsure');
DROP INDEX retries_pass;
CREATE INDEX retries_pass ON retries (pass_id);
