SELECT item FROM attempt WHERE id = ?1
