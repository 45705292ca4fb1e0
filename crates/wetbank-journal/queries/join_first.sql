SELECT place, path, depth FROM item i INDEXED BY item_joining
WHERE run = ?1 AND branch = ?2 AND step = ?3 AND state = 'joining'
  AND NOT EXISTS (SELECT 1 FROM made WHERE source = i.id)
ORDER BY id LIMIT 1
