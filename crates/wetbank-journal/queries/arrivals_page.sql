SELECT id, path, size, modified, seen
FROM arrival
WHERE place = ?1 AND id > ?2 AND seen >= ?3
ORDER BY id
LIMIT ?4
