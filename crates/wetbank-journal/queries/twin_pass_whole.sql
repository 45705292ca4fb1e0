SELECT count(*) AS "count!: i64" FROM twin_pass WHERE twin = ?1 AND ended IS NOT NULL AND why IS NULL
