SELECT i.id AS "id!", i.place, i.path, i.size, i.hand, i.taken FROM made m JOIN item i ON i.id = m.source
WHERE m.result = ?1 AND i.id > ?2 ORDER BY i.id LIMIT ?3
