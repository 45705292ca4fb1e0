SELECT i.id AS "id!", i.branch AS "branch!", i.place, i.path, i.size, a.place AS "at_place!", a.path AS "at_path!", a.message
FROM (SELECT * FROM item WHERE run = ?1 AND id > ?2 AND state = 'done' AND branch IS NOT NULL ORDER BY id LIMIT ?3) AS i
JOIN attempt AS a ON a.item = i.id
WHERE a.outcome = 'done' AND a.place IS NOT NULL
ORDER BY i.id, a.id
