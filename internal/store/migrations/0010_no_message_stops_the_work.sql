-- Messages and items that take long are worked on beside the others of their mailbox: 1, and 2 for those that take
-- very long.
ALTER TABLE retries ADD COLUMN slow INTEGER NOT NULL DEFAULT 0;
ALTER TABLE journal ADD COLUMN slow INTEGER NOT NULL DEFAULT 0;

-- A pass over old mail goes over the mailboxes that who began it may see.
ALTER TABLE passes ADD COLUMN only_in TEXT;
