SELECT EXISTS (SELECT 1 FROM run WHERE id = ?1 AND state = 'running') AS "goes_on!: bool"
