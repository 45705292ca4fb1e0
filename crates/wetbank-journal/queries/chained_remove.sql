DELETE FROM chained WHERE id = ?1
