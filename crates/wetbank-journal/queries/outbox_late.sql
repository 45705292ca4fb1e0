SELECT place AS "place!", COUNT(*) AS "count!: i64", MIN(queued) AS "since!: i64", MAX(why) AS "why?: String" FROM outbox
WHERE (state = 'waiting' AND tries > 0) OR (state = 'refused' AND ended > ?1) GROUP BY place
