DELETE FROM hold WHERE item = ?1
