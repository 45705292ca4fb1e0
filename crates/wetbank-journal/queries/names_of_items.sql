-- Names in which all threes of letters occur, with the names themselves: whoever asks compares.
SELECT n.rowid AS "rowid!: i64", i.id AS "item!: i64", i.path
FROM item_name AS n JOIN item AS i ON i.id = n.rowid
WHERE n.item_name MATCH ?1 AND n.rowid < ?2
ORDER BY n.rowid DESC LIMIT ?3
