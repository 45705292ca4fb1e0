INSERT INTO item (id, run, rule, place, path, fingerprint, size, state, branch, step, depth, taken, kind)
SELECT ?1, id, rule, ?3, ?4, '', 0, 'queued', ?5, ?6, ?7, ?8, 'made' FROM run WHERE id = ?2
