-- In how many messages each feature occurs by which topics judge: counts without words, packed.
CREATE TABLE topic_common (id INTEGER PRIMARY KEY CHECK (id = 1), counts BLOB NOT NULL);
