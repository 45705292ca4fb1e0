DELETE FROM user WHERE name = ?1
