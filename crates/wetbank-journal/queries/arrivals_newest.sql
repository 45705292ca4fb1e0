SELECT id, place, path, size, modified, seen
FROM arrival
WHERE id < ?1 AND (?2 = '' OR place = ?2)
  AND (?3 IS NULL OR (substr(path, 1, length(?3)) = ?3 AND instr(substr(path, length(?3) + 1), X'2F') = 0))
ORDER BY id DESC
LIMIT ?4
