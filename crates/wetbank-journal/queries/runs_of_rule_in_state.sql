SELECT r.id AS "id!", r.rule, r.cause, r.started, r.ended, r.state, coalesce(i.why, r.why) AS "why?: String", r.items,
       i.path AS "path?", i.size AS "size?"
FROM run r
LEFT JOIN item i ON i.id = coalesce((SELECT min(id) FROM item WHERE run = r.id AND kind <> 'find'),
                                    (SELECT min(id) FROM item WHERE run = r.id))
WHERE r.id < ?1 AND r.rule = ?3 AND r.state = ?4
ORDER BY r.id DESC LIMIT ?2
