-- A twin is a section of the book.
CREATE TABLE section_with_twins (
  kind     TEXT    NOT NULL CHECK (kind IN ('place', 'partner', 'calendar', 'database', 'twin', 'rule')),
  name     TEXT    NOT NULL,
  text     TEXT    NOT NULL,
  position INTEGER NOT NULL,
  version  INTEGER NOT NULL,
  is_on    INTEGER NOT NULL DEFAULT 1 CHECK (is_on IN (0, 1)),
  changed  INTEGER NOT NULL,
  PRIMARY KEY (kind, name)
) STRICT, WITHOUT ROWID;
INSERT INTO section_with_twins (kind, name, text, position, version, is_on, changed)
SELECT kind, name, text, position, version, is_on, changed FROM section;
DROP TABLE section;
ALTER TABLE section_with_twins RENAME TO section;
