-- A second factor besides the password: time-based codes (RFC 6238), and codes for when that is lost.
ALTER TABLE people ADD COLUMN totp BLOB NOT NULL DEFAULT x'';
ALTER TABLE people ADD COLUMN totp_step INTEGER NOT NULL DEFAULT 0;
ALTER TABLE people ADD COLUMN totp_at DATETIME;
CREATE TABLE recovery_codes (
  hash BLOB NOT NULL,
  person_id TEXT NOT NULL REFERENCES people(id) ON DELETE CASCADE,
  PRIMARY KEY (person_id, hash)
) WITHOUT ROWID;

-- Who a person is at the office's sign-in (OpenID Connect): issuer and subject.
ALTER TABLE people ADD COLUMN subject TEXT NOT NULL DEFAULT '';
CREATE UNIQUE INDEX people_subject ON people (subject) WHERE subject <> '';
