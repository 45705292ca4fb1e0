SELECT branch AS "branch!: i64", state AS "state!", sum(items) AS "count!: i64"
FROM (
  SELECT branch, state, items FROM tally WHERE rule = ?1 AND quarter >= ?2 / 900000
  UNION ALL
  SELECT branch, state, items FROM standing WHERE rule = ?1 AND kind <> 'find'
)
WHERE branch >= 0 AND items > 0
GROUP BY 1, 2
