-- Names in which all threes of letters occur, with the names themselves: whoever asks compares.
SELECT n.rowid AS "rowid!: i64", i.id AS "item!: i64", i.path
FROM name_index AS n JOIN item AS i ON i.id = n.rowid / 2
WHERE n.name_index MATCH ?1 AND n.rowid < ?2 AND n.rowid % 2 = 0
ORDER BY n.rowid DESC LIMIT ?3
