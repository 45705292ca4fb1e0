SELECT (started - ?2) / 86400000 AS "day!: i64", state, count(*) AS "count!: i64"
FROM run WHERE rule = ?1 AND started >= ?2 GROUP BY 1, 2
