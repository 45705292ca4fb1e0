UPDATE twin_pass SET run = ?2 WHERE id = ?1
