UPDATE user SET step = ?2 WHERE name = ?1 AND seed IS NOT NULL AND (step IS NULL OR step < ?2)
