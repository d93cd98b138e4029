-- What was read of filed files: JSON, a list of name, type and text. NULL where nothing was read.
ALTER TABLE register ADD COLUMN found TEXT;
DROP TRIGGER register_changed;
CREATE TRIGGER register_changed AFTER UPDATE OF void, filed_at, undone_at, replaced_by, check_state, sender_name, sender_address, subject, folder, file, kind, size, found ON register BEGIN INSERT INTO register_changes (year, number) VALUES (new.year, new.number); END;
