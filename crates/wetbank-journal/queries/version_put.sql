INSERT INTO version (kind, name, version, text, at, who, note)
VALUES (?1, ?2, (SELECT coalesce(max(version), 0) + 1 FROM version WHERE kind = ?1 AND name = ?2), ?3, ?4, ?5, ?6)
