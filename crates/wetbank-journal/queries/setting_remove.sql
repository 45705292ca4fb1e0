DELETE FROM setting WHERE key = ?1
