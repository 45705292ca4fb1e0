SELECT item, id AS "id!", step, kind, number, began, ended, outcome, place, path, size, sha256, blake3, code, message, remedy
FROM attempt WHERE item = ?1 ORDER BY id LIMIT 500
