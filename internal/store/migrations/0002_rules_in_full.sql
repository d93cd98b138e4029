-- Persons and firms with whom the office writes. Passwords are of archives
-- that they send, sealed.
CREATE TABLE correspondents (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  addresses TEXT NOT NULL,
  domains TEXT NOT NULL,
  groups TEXT NOT NULL,
  passwords BLOB,
  password_count INTEGER NOT NULL,
  revision INTEGER NOT NULL,
  made_at DATETIME NOT NULL
);

-- Tables in which patterns look something up: a station's code, its place.
CREATE TABLE lookup_tables (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  rows TEXT NOT NULL,
  revision INTEGER NOT NULL,
  made_at DATETIME NOT NULL
);

-- A file that a later message's file took the place of is kept under this name.
ALTER TABLE journal ADD COLUMN displaced TEXT NOT NULL DEFAULT '';
ALTER TABLE register ADD COLUMN replaced_by TEXT NOT NULL DEFAULT '';
ALTER TABLE register ADD COLUMN kept_as TEXT NOT NULL DEFAULT '';
CREATE INDEX register_place ON register (cabinet_id, folder, file);

-- Old mail at a limited speed and in set hours, "19:00" to "06:00".
ALTER TABLE passes ADD COLUMN per_minute INTEGER NOT NULL DEFAULT 0;
ALTER TABLE passes ADD COLUMN from_time TEXT NOT NULL DEFAULT '';
ALTER TABLE passes ADD COLUMN to_time TEXT NOT NULL DEFAULT '';

-- Mode and owner of files in a cabinet, "0640" and "user:group".
ALTER TABLE cabinets ADD COLUMN mode TEXT NOT NULL DEFAULT '';
ALTER TABLE cabinets ADD COLUMN owner TEXT NOT NULL DEFAULT '';
