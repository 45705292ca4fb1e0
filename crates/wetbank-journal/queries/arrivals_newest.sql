SELECT id, place, path, size, modified, seen
FROM arrival
WHERE id < ?1 AND (?2 = '' OR place = ?2)
ORDER BY id DESC
LIMIT ?3
