SELECT state AS "state!", sum(items) AS "count!: i64" FROM standing WHERE items > 0 GROUP BY state
