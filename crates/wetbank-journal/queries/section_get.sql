SELECT text, version FROM section WHERE kind = ?1 AND name = ?2
