SELECT r.id AS "id!", r.run, r.rule, r.kind, r.place, r.path, r.size, r.state, r.why, r.taken, r.ended
FROM made AS m JOIN item AS r ON r.id = m.result
WHERE m.source = ?1 ORDER BY m.result LIMIT ?2
