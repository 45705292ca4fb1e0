SELECT id AS "id!", rule, version, place, path, fingerprint, size, depth, about FROM chained ORDER BY id LIMIT ?1
