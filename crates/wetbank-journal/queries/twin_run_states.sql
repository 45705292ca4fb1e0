SELECT state, count(*) AS "count!: i64" FROM item WHERE run = ?1 GROUP BY state
