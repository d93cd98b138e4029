-- Passkeys (WebAuthn), by which people sign in without a password.
CREATE TABLE passkeys (
  id TEXT PRIMARY KEY,
  person_id TEXT NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  name TEXT NOT NULL,
  host TEXT NOT NULL,
  credential BLOB NOT NULL UNIQUE,
  data BLOB NOT NULL,
  made_at DATETIME NOT NULL,
  used_at DATETIME
);
CREATE INDEX passkeys_person ON passkeys (person_id);

-- How many a person has.
ALTER TABLE people ADD COLUMN passkeys INTEGER NOT NULL DEFAULT 0;
CREATE TRIGGER passkeys_added AFTER INSERT ON passkeys
  BEGIN UPDATE people SET passkeys = passkeys + 1 WHERE id = NEW.person_id; END;
CREATE TRIGGER passkeys_removed AFTER DELETE ON passkeys
  BEGIN UPDATE people SET passkeys = passkeys - 1 WHERE id = OLD.person_id; END;
