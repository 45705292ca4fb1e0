UPDATE section SET position = ?3 WHERE kind = ?1 AND name = ?2
