SELECT i.id AS "id!", i.run, i.rule, r.version, i.kind, i.place, i.path, i.fingerprint, i.size, i.state, i.branch, i.step,
       i.hand, i.failures, i.due, i.depth, i.taken, r.cause, r.about, r.started,
       EXISTS (SELECT 1 FROM attempt a WHERE a.item = i.id AND (a.outcome = 'going' OR a.intent IS NOT NULL))
         AS "unclear!: bool"
FROM item i INDEXED BY item_to_do_by_run JOIN run r ON r.id = i.run
WHERE i.state IN ('queued', 'working', 'waiting') AND i.run = ?1 AND i.id > ?2
ORDER BY i.id LIMIT ?3
