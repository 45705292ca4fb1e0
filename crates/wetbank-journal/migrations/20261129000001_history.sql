-- A journal of many years answers as fast as a new one: what pages count is kept counted, and every list has its index.

-- A partial index is used by those questions only that repeat its condition word for word.
DROP INDEX item_open;
DROP INDEX item_open_by_run;
CREATE INDEX item_to_do ON item (id) WHERE state IN ('queued', 'working', 'waiting');
CREATE INDEX item_to_do_by_run ON item (run, id) WHERE state IN ('queued', 'working', 'waiting');
CREATE INDEX item_held ON item (run, id) WHERE state = 'held';
CREATE INDEX item_joining ON item (run, id) WHERE state = 'joining';
CREATE INDEX item_open_by_file ON item (place, path)
  WHERE state IN ('queued', 'working', 'waiting', 'joining', 'held');
DROP INDEX item_ended;

DROP INDEX run_by_day;
CREATE INDEX run_by_rule_and_state ON run (rule, state, id);

DROP INDEX attempt_by_sha256;
CREATE INDEX attempt_by_sha256 ON attempt (sha256, item) WHERE sha256 IS NOT NULL;

-- How many files a run has.
ALTER TABLE run ADD COLUMN items INTEGER NOT NULL DEFAULT 0;
UPDATE run SET items = (SELECT count(*) FROM item WHERE run = run.id AND kind <> 'find');
CREATE TRIGGER run_has_item AFTER INSERT ON item WHEN NEW.kind <> 'find'
BEGIN
  UPDATE run SET items = items + 1 WHERE id = NEW.run;
END;

-- How many runs began in which quarter of an hour, by the state that they are in now.
CREATE TABLE begun (
  rule    TEXT    NOT NULL,
  quarter INTEGER NOT NULL,
  state   TEXT    NOT NULL,
  runs    INTEGER NOT NULL,
  PRIMARY KEY (rule, quarter, state)
) STRICT, WITHOUT ROWID;
INSERT INTO begun SELECT rule, started / 900000, state, count(*) FROM run GROUP BY 1, 2, 3;
CREATE TRIGGER run_begins AFTER INSERT ON run
BEGIN
  INSERT INTO begun VALUES (NEW.rule, NEW.started / 900000, NEW.state, 1)
  ON CONFLICT DO UPDATE SET runs = runs + 1;
END;
CREATE TRIGGER run_changes AFTER UPDATE OF state ON run WHEN NEW.state <> OLD.state
BEGIN
  UPDATE begun SET runs = runs - 1 WHERE rule = OLD.rule AND quarter = OLD.started / 900000 AND state = OLD.state;
  INSERT INTO begun VALUES (NEW.rule, NEW.started / 900000, NEW.state, 1)
  ON CONFLICT DO UPDATE SET runs = runs + 1;
END;

-- How many files came to their end in which quarter of an hour. No branch is -1.
CREATE TABLE tally (
  quarter INTEGER NOT NULL,
  rule    TEXT    NOT NULL,
  branch  INTEGER NOT NULL,
  state   TEXT    NOT NULL CHECK (state IN ('done', 'skipped')),
  items   INTEGER NOT NULL,
  bytes   INTEGER NOT NULL,
  PRIMARY KEY (quarter, rule, branch, state)
) STRICT, WITHOUT ROWID;
INSERT INTO tally
SELECT ended / 900000, rule, coalesce(branch, -1), state, count(*), sum(size) FROM item
WHERE state IN ('done', 'skipped') AND ended IS NOT NULL AND kind <> 'find' GROUP BY 1, 2, 3, 4;
CREATE INDEX tally_by_rule ON tally (rule, quarter);
CREATE TRIGGER item_ends AFTER UPDATE OF state ON item
WHEN NEW.state IN ('done', 'skipped') AND OLD.state NOT IN ('done', 'skipped') AND NEW.ended IS NOT NULL
  AND NEW.kind <> 'find'
BEGIN
  INSERT INTO tally VALUES (NEW.ended / 900000, NEW.rule, coalesce(NEW.branch, -1), NEW.state, 1, NEW.size)
  ON CONFLICT DO UPDATE SET items = items + 1, bytes = bytes + excluded.bytes;
END;

-- How many items are open, and how.
CREATE TABLE standing (
  rule   TEXT    NOT NULL,
  branch INTEGER NOT NULL,
  state  TEXT    NOT NULL,
  kind   TEXT    NOT NULL,
  items  INTEGER NOT NULL,
  PRIMARY KEY (rule, branch, state, kind)
) STRICT, WITHOUT ROWID;
INSERT INTO standing
SELECT rule, coalesce(branch, -1), state, kind, count(*) FROM item
WHERE state IN ('queued', 'working', 'waiting', 'joining', 'held') GROUP BY 1, 2, 3, 4;
CREATE TRIGGER item_stands AFTER INSERT ON item WHEN NEW.state NOT IN ('done', 'skipped')
BEGIN
  INSERT INTO standing VALUES (NEW.rule, coalesce(NEW.branch, -1), NEW.state, NEW.kind, 1)
  ON CONFLICT DO UPDATE SET items = items + 1;
END;
CREATE TRIGGER item_goes_on AFTER UPDATE OF state, branch ON item
WHEN NEW.state <> OLD.state OR NEW.branch IS NOT OLD.branch
BEGIN
  UPDATE standing SET items = items - 1
  WHERE rule = OLD.rule AND branch = coalesce(OLD.branch, -1) AND state = OLD.state AND kind = OLD.kind;
  INSERT INTO standing
  SELECT NEW.rule, coalesce(NEW.branch, -1), NEW.state, NEW.kind, 1 WHERE NEW.state NOT IN ('done', 'skipped')
  ON CONFLICT DO UPDATE SET items = items + 1;
END;

-- The index of names in two, so that the newest of each are found without walking through the other; and names can be
-- taken out of these.
DROP TABLE name_index;
CREATE VIRTUAL TABLE item_name USING fts5 (
  name, content = '', contentless_delete = 1, tokenize = 'trigram', detail = none
);
INSERT INTO item_name (rowid, name) SELECT id, CAST(path AS TEXT) FROM item WHERE kind <> 'find';
-- What an attempt made has a name of its own if it is called otherwise than the file that came: the last part tells.
CREATE VIRTUAL TABLE attempt_name USING fts5 (
  name, content = '', contentless_delete = 1, tokenize = 'trigram', detail = none
);
INSERT INTO attempt_name (rowid, name)
SELECT a.id, CAST(a.path AS TEXT)
FROM attempt AS a JOIN item AS i ON i.id = a.item
WHERE a.path IS NOT NULL AND a.outcome = 'done'
  AND replace(CAST(a.path AS TEXT), rtrim(CAST(a.path AS TEXT), replace(CAST(a.path AS TEXT), '/', '')), '')
   <> replace(CAST(i.path AS TEXT), rtrim(CAST(i.path AS TEXT), replace(CAST(i.path AS TEXT), '/', '')), '');

CREATE INDEX hold_by_time ON hold (since);
