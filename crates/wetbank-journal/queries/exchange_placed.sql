UPDATE exchange SET staged = NULL WHERE id = ?1
