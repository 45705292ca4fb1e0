SELECT count(*) AS "count!: i64" FROM twin_known WHERE twin = ?1 AND was = 'file'
