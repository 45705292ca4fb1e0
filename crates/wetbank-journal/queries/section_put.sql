INSERT INTO section (kind, name, text, position, version, changed)
VALUES (?1, ?2, ?3, ?4,
        (SELECT coalesce(max(version), 0) + 1 FROM version WHERE kind = ?1 AND name = ?2), ?5)
ON CONFLICT (kind, name) DO UPDATE
SET text = excluded.text, version = excluded.version, changed = excluded.changed
