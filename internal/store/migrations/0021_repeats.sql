-- Which file of a rule was the first with a value that is to be there once, such as the number of an invoice: sum is the
-- SHA-256 of its folded text, content that of the file, where it was read.
CREATE TABLE repeats (
  rule_id TEXT NOT NULL,
  name TEXT NOT NULL,
  sum BLOB NOT NULL,
  message_id INTEGER NOT NULL,
  journal_id INTEGER NOT NULL,
  content BLOB,
  PRIMARY KEY (rule_id, name, sum)
) WITHOUT ROWID;
CREATE INDEX repeats_message ON repeats (message_id);
