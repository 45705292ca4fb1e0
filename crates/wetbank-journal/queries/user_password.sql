UPDATE user SET password = ?2 WHERE name = ?1
