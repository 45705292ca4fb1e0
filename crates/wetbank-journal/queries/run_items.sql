SELECT id AS "id!", kind, place, path, size, state, branch, step, failures, due, why, taken, ended
FROM item WHERE run = ?1 AND id > ?2 ORDER BY id LIMIT ?3
