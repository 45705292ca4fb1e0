UPDATE user SET seen = ?2 WHERE name = ?1
