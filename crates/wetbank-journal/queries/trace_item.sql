SELECT id AS "id!", run, rule, place, path, size, state, why, taken, ended FROM item WHERE id = ?1
