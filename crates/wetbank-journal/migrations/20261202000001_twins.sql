-- What both sides of a twin had after the last pass that touched it, name by name. A folder is the near side's, below
-- the twin's own; a side's name is left out where it is the same as the near one's.
CREATE TABLE twin_known (
  twin   TEXT NOT NULL,
  folder BLOB NOT NULL,
  name   BLOB NOT NULL,
  far    BLOB,
  -- A folder; the same file on both sides, in these states; never alike, and a person was asked.
  was    TEXT NOT NULL CHECK (was IN ('folder', 'file', 'asked')),
  states TEXT CHECK ((states IS NOT NULL) = (was = 'file')),
  PRIMARY KEY (twin, folder, name)
) STRICT, WITHOUT ROWID;

-- The passes of a twin. What is known of it counts from its last whole pass on; before that its sides have not met.
CREATE TABLE twin_pass (
  id    INTEGER PRIMARY KEY,
  twin  TEXT    NOT NULL,
  began INTEGER NOT NULL,
  ended INTEGER,
  -- The run that carries it out; none where nothing was to be done.
  run   INTEGER,
  -- What the plan came to, as JSON.
  plan  TEXT,
  -- Why it was not begun or broke off.
  why   TEXT
) STRICT;
CREATE INDEX twin_pass_by_twin ON twin_pass (twin, id);
