SELECT (quarter * 900000 - ?1) / 3600000 AS "hour!: i64", state, sum(items) AS "count!: i64", sum(bytes) AS "bytes!: i64"
FROM tally WHERE quarter >= ?1 / 900000 AND quarter <= ?2 / 900000 GROUP BY 1, 2
