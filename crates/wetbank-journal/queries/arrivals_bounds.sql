SELECT (SELECT seen FROM arrival ORDER BY id LIMIT 1) AS "since: i64",
       (SELECT count(*) FROM arrival) AS "count!: i64"
