DELETE FROM secret WHERE name = ?1
