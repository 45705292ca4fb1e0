SELECT r.id AS "id!", r.rule, r.cause, r.started, r.ended, r.state,
       (SELECT count(*) FROM item WHERE run = r.id) AS "items!: i64",
       i.id AS "item!", i.path, i.size, i.why
FROM run r JOIN item i ON i.id = (SELECT min(id) FROM item WHERE run = r.id)
WHERE r.id < ?1 AND (?2 = '' OR r.rule = ?2) AND (?3 = '' OR r.state = ?3)
ORDER BY r.id DESC LIMIT ?4
