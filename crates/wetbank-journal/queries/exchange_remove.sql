DELETE FROM exchange WHERE id = ?1
