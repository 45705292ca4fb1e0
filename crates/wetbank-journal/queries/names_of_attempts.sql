-- The same of names that files were given on their way: the path of what an attempt made.
WITH page AS MATERIALIZED (
  SELECT n.rowid AS name, a.item, a.path
  FROM attempt_name AS n JOIN attempt AS a ON a.id = n.rowid
  WHERE n.attempt_name MATCH ?1 AND n.rowid < ?2 AND a.path IS NOT NULL
  ORDER BY n.rowid DESC LIMIT ?3
)
SELECT name AS "name: i64", item AS "item!: i64", path AS "path: Vec<u8>" FROM page
WHERE instr(lower(CAST(path AS TEXT)), ?4) OR CAST(path AS TEXT) GLOB '*[^ -~]*' OR instr(path, x'5c')
UNION ALL SELECT min(name), count(*), NULL FROM page
