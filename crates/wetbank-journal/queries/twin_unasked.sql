SELECT i.id AS "id!" FROM item i
WHERE i.rule = ?1 AND i.branch = ?2 AND i.state IN ('queued', 'working', 'waiting')
  AND NOT EXISTS (SELECT 1 FROM attempt a WHERE a.item = i.id AND a.outcome <> 'going')
ORDER BY i.id
