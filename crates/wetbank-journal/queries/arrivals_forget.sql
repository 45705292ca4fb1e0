DELETE FROM arrival
WHERE id IN (SELECT id FROM arrival WHERE id <= ?1 ORDER BY id LIMIT ?2)
