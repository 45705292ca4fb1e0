UPDATE user SET seed = ?2, step = ?3 WHERE name = ?1
