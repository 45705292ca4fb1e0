SELECT code FROM hold WHERE item = ?1
