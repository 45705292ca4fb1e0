INSERT INTO output (place, path, fingerprint, rule, item, depth)
SELECT value->>0, unhex(value->>1), value->>2, value->>3, value->>4, value->>5
FROM json_each(?1) WHERE true
ON CONFLICT (place, path) DO UPDATE
SET fingerprint = excluded.fingerprint, rule = excluded.rule, item = excluded.item, depth = excluded.depth
