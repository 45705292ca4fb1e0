SELECT version, text, at, who, note FROM version WHERE kind = ?1 AND name = ?2 ORDER BY version DESC LIMIT 200
