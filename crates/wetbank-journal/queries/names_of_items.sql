-- Of a page of names in which all threes of letters occur: those in which the text may occur, for whoever asks to compare.
-- In plain letters it is looked for here; other names have a text form that only the program knows. The last row, which
-- has no path, tells where the page ended and how many names it had.
WITH page AS MATERIALIZED (
  SELECT n.rowid AS name, i.id AS item, i.path
  FROM item_name AS n JOIN item AS i ON i.id = n.rowid
  WHERE n.item_name MATCH ?1 AND n.rowid < ?2
  ORDER BY n.rowid DESC LIMIT ?3
)
SELECT name AS "name: i64", item AS "item!: i64", path AS "path: Vec<u8>" FROM page
WHERE instr(lower(CAST(path AS TEXT)), ?4) OR CAST(path AS TEXT) GLOB '*[^ -~]*' OR instr(path, x'5c')
UNION ALL SELECT min(name), count(*), NULL FROM page
