SELECT s.id AS "id!",
       (SELECT r.why FROM made n JOIN item r ON r.id = n.result WHERE n.source = s.id AND r.state = 'skipped' LIMIT 1)
         AS "why?: String",
       EXISTS (SELECT 1 FROM made n JOIN item r ON r.id = n.result WHERE n.source = s.id AND r.state = 'skipped')
         AS "skipped!: bool"
FROM item s INDEXED BY item_joining
WHERE s.run = ?1 AND s.state = 'joining'
  AND s.open_results = 0 AND EXISTS (SELECT 1 FROM made WHERE source = s.id)
ORDER BY s.id LIMIT ?2
