-- A message is the same by whichever protocol it is read: JMAP tells other sizes of its parts than IMAP.
ALTER TABLE messages ADD COLUMN likeness BLOB;
UPDATE messages SET likeness = likeness(header, structure) WHERE length(header) > 0;
CREATE INDEX messages_likeness ON messages (likeness) WHERE likeness IS NOT NULL;
