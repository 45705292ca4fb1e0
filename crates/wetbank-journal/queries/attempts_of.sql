SELECT a.item, a.id AS "id!", a.step, a.kind, a.number, a.began, a.ended, a.outcome, a.place, a.path, a.size, a.sha256,
       a.blake3, a.code, a.message, a.remedy
FROM json_each(?1) AS j JOIN attempt AS a ON a.item = j.value
WHERE a.id <= coalesce((SELECT id FROM attempt WHERE item = j.value ORDER BY id LIMIT 1 OFFSET 499), a.id)
ORDER BY a.item, a.id
