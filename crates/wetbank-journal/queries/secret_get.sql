SELECT sealed FROM secret WHERE name = ?1
