INSERT INTO output (place, path, fingerprint, rule, item, depth) VALUES (?1, ?2, ?3, ?4, ?5, ?6)
ON CONFLICT (place, path) DO UPDATE
SET fingerprint = excluded.fingerprint, rule = excluded.rule, item = excluded.item, depth = excluded.depth
