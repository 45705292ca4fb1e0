INSERT INTO item (id, run, rule, place, path, fingerprint, size, state, depth, taken)
VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, 'queued', ?8, ?9)
