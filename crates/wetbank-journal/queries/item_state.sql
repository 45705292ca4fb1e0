SELECT state FROM item WHERE id = ?1
