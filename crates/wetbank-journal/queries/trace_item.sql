SELECT id AS "id!", run, rule, kind, place, path, size, state, why, taken, ended FROM item WHERE id = ?1
