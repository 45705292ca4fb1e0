SELECT id AS "id!", started FROM run WHERE rule = ?1 AND state = 'running' ORDER BY id
