UPDATE visit SET ended = ?2 WHERE id = ?1 AND ended IS NULL
