SELECT id AS "id!", rule, version, cause, about, why, started, ended, state FROM run WHERE id = ?1
