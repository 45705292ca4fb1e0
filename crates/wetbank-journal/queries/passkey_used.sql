UPDATE passkey SET key = ?2, used = ?3 WHERE id = ?1
