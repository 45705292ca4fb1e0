SELECT (since - ?1) / 3600000 AS "hour!: i64", count(*) AS "count!: i64" FROM hold WHERE since >= ?1 AND since < ?2 GROUP BY 1
