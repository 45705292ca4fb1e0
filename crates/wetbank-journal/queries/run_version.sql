UPDATE run SET version = ?2 WHERE id = ?1
