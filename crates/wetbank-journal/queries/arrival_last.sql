SELECT id AS "id!: i64", fingerprint, size, modified, seen
FROM arrival
WHERE place = ?1 AND path = ?2
ORDER BY id DESC
LIMIT 1
