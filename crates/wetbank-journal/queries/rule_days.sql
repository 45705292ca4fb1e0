SELECT (quarter * 900000 - ?2) / 86400000 AS "day!: i64", state, sum(runs) AS "count!: i64"
FROM begun WHERE rule = ?1 AND quarter >= ?2 / 900000 AND runs > 0 GROUP BY 1, 2
