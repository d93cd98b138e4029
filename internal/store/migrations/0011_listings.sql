-- The folders of a mailbox as the mail server last listed them: which folders a rule looks into is decided by the same
-- listing everywhere.
CREATE TABLE listings (
    mailbox_id TEXT PRIMARY KEY,
    folders TEXT NOT NULL
);
