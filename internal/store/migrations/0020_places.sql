-- The last line of a name in one step: the same file may be found already there any number of times.
DROP INDEX register_place;
CREATE INDEX register_place ON register (cabinet_id, folder, file, year, number);
