DELETE FROM exchange WHERE id IN (SELECT id FROM exchange WHERE at < ?1 AND staged IS NULL ORDER BY at LIMIT ?2)
