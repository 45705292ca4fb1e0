INSERT INTO sighting (rule, place, path, fingerprint, at)
SELECT value->>0, value->>1, unhex(value->>2), value->>3, value->>4 FROM json_each(?1) WHERE true
ON CONFLICT (rule, place, path) DO UPDATE
SET fingerprint = excluded.fingerprint, at = excluded.at, gone = NULL
WHERE fingerprint <> excluded.fingerprint OR gone < excluded.at
RETURNING rule, place, path
