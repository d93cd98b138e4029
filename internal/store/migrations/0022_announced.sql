-- When the server announced a message that is read once more, or beside the others: how long its filing took counts
-- from there.
ALTER TABLE retries ADD COLUMN announced_at DATETIME;
