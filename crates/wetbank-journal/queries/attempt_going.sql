SELECT id AS "id!", item, step, kind, place, path, intent, size, sha256, blake3
FROM attempt WHERE outcome = 'going' AND item = ?1 ORDER BY id DESC LIMIT 1
