-- Passes of which somebody is still to be told. Whoever it is is told by what the book says of them.
CREATE TABLE twin_untold (
  twin   TEXT    NOT NULL,
  notice TEXT    NOT NULL,
  pass   INTEGER NOT NULL,
  PRIMARY KEY (twin, notice, pass)
) STRICT, WITHOUT ROWID;
