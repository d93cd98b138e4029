-- What a person released, or filed elsewhere, says for which cause it was held: looking
-- at one says nothing of another.
ALTER TABLE journal ADD COLUMN looked TEXT NOT NULL DEFAULT '';
