SELECT branch AS "branch!: i64", state AS "state!", count(*) AS "count!: i64" FROM item
WHERE rule = ?1 AND branch IS NOT NULL AND kind <> 'find'
  AND (ended >= ?2 OR state IN ('queued', 'working', 'waiting', 'joining', 'held'))
GROUP BY 1, 2
