UPDATE exchange SET fingerprint = ?2, staged = NULL WHERE id = ?1
