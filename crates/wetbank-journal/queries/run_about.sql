UPDATE run SET about = ?2 WHERE id = ?1
