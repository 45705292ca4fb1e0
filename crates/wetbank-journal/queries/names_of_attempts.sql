-- The same of names that files were given on their way: the path of what an attempt made.
SELECT n.rowid AS "rowid!: i64", a.item, a.path AS "path!: Vec<u8>"
FROM attempt_name AS n JOIN attempt AS a ON a.id = n.rowid
WHERE n.attempt_name MATCH ?1 AND n.rowid < ?2 AND a.path IS NOT NULL
ORDER BY n.rowid DESC LIMIT ?3
