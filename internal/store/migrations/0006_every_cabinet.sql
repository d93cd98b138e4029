-- Cabinets on servers. Their folder is an address; what only some kinds have is in
-- "particulars", JSON.
ALTER TABLE cabinets ADD COLUMN username TEXT NOT NULL DEFAULT '';
ALTER TABLE cabinets ADD COLUMN secret BLOB;
ALTER TABLE cabinets ADD COLUMN particulars TEXT NOT NULL DEFAULT '{}';
