SELECT version FROM version WHERE kind = ?1 AND name = ?2 AND text = ?3 ORDER BY version DESC LIMIT 1
