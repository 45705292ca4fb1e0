UPDATE item SET state = 'working', branch = ?2, step = ?3 WHERE id = ?1 AND state IN ('queued', 'working', 'waiting')
