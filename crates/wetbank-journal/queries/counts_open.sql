SELECT state AS "state!", count(*) AS "count!: i64" FROM item
WHERE state IN ('queued', 'working', 'waiting', 'joining', 'held') GROUP BY state
