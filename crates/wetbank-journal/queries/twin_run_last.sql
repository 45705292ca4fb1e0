SELECT max(id) AS "last: i64"
FROM (SELECT id FROM item WHERE run = ?1 AND id > ?2 AND state = 'done' AND branch IS NOT NULL ORDER BY id LIMIT ?3)
