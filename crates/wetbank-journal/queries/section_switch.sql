UPDATE section SET is_on = ?3 WHERE kind = ?1 AND name = ?2
