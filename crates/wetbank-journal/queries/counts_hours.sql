SELECT (ended - ?1) / 3600000 AS "hour!: i64", state, count(*) AS "count!: i64", sum(size) AS "bytes!: i64"
FROM item WHERE ended >= ?2 AND ended < ?3 AND kind <> 'find' GROUP BY 1, 2
