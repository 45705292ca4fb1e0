INSERT INTO made (source, result)
SELECT id, ?1 FROM item i INDEXED BY item_joining
WHERE run = ?2 AND branch = ?3 AND step = ?4 AND state = 'joining' AND kind <> 'find' AND id <> ?1
  AND NOT EXISTS (SELECT 1 FROM made WHERE source = i.id)
