SELECT item.id, item.place, item.path, item.size, item.taken, item.fingerprint, run.cause, run.about
FROM run JOIN item ON item.run = run.id
WHERE run.rule = ?1 AND run.started >= ?2 AND item.kind = 'file' AND item.id > ?3
ORDER BY item.id
LIMIT ?4
