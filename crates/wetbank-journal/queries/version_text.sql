SELECT text FROM version WHERE kind = ?1 AND name = ?2 AND version = ?3
