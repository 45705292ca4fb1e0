SELECT id AS "id!", started, state FROM run WHERE rule = ?1 ORDER BY id DESC LIMIT 1
