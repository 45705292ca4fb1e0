INSERT INTO sighting (rule, place, path, fingerprint, at) VALUES (?1, ?2, ?3, ?4, ?5)
ON CONFLICT (rule, place, path) DO UPDATE
SET fingerprint = excluded.fingerprint, at = excluded.at, gone = NULL
WHERE fingerprint <> excluded.fingerprint OR gone < ?6
