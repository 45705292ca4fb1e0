UPDATE act SET outcome = ?2, note = ?3 WHERE id = ?1
