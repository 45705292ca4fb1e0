SELECT id AS "id!", item, step, kind, place, path, intent, size, sha256, blake3, outcome
FROM attempt WHERE item = ?1 AND (outcome = 'going' OR intent IS NOT NULL) ORDER BY id DESC LIMIT 1
