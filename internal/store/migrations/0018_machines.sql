-- The other machines of the office: how they are asked, and where their records are read.
CREATE TABLE machines (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  address TEXT NOT NULL,
  authority TEXT NOT NULL,
  place TEXT NOT NULL,
  username TEXT NOT NULL,
  region TEXT NOT NULL,
  host_key TEXT NOT NULL,
  secret BLOB,
  installation TEXT NOT NULL UNIQUE,
  revision INTEGER NOT NULL,
  made_at DATETIME NOT NULL
);
