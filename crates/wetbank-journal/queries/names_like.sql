SELECT rowid AS "rowid!: i64" FROM name_index WHERE name_index MATCH ?1 AND rowid < ?2 ORDER BY rowid DESC LIMIT ?3
