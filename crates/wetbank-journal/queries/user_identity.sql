UPDATE user SET identity = ?2 WHERE name = ?1
