-- What watchers saw, taken by a rule or not, each state of a file once: what rehearsals go over, and what tells why a
-- file was not taken. Rows are in the order in which they were seen.
CREATE TABLE arrival (
  id          INTEGER PRIMARY KEY,
  place       TEXT    NOT NULL,
  path        BLOB    NOT NULL,
  fingerprint TEXT    NOT NULL,
  size        INTEGER NOT NULL,
  -- Milliseconds since 1970, both.
  modified    INTEGER NOT NULL,
  seen        INTEGER NOT NULL,
  UNIQUE (place, path, fingerprint)
) STRICT;
CREATE INDEX arrival_by_place ON arrival (place, id);
