-- How many of the items that were made of one are not at their end: when none is, it goes on.
ALTER TABLE item ADD COLUMN open_results INTEGER NOT NULL DEFAULT 0;
UPDATE item SET open_results = (
  SELECT count(*) FROM made AS m JOIN item AS r ON r.id = m.result
  WHERE m.source = item.id AND r.state NOT IN ('done', 'skipped')
) WHERE state = 'joining';
