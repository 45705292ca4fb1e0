UPDATE visit SET ended = ?1 WHERE ended IS NULL
