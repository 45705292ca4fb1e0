SELECT branch AS "branch!: i64", step, count(*) AS "items!: i64"
FROM item i INDEXED BY item_joining
WHERE run = ?1 AND state = 'joining'
  AND open_results = 0 AND NOT EXISTS (SELECT 1 FROM made WHERE source = i.id)
GROUP BY 1, 2 ORDER BY 1, 2
