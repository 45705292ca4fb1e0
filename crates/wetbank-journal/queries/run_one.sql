SELECT id AS "id!", rule, version, cause, started, ended, state FROM run WHERE id = ?1
