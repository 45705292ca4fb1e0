-- Folders of a twin in which nothing was to be done: what each side listed then, and by what it was planned. As long as
-- both list the same nothing is to be done there again.
CREATE TABLE twin_seal (
  twin   TEXT NOT NULL,
  folder BLOB NOT NULL,
  state  BLOB NOT NULL,
  near   INTEGER NOT NULL,
  far    INTEGER NOT NULL,
  PRIMARY KEY (twin, folder)
) STRICT, WITHOUT ROWID;
