SELECT value FROM setting WHERE key = ?1
