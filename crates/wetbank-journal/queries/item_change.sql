UPDATE item SET state = ?2, step = ?3, hand = ?4, failures = ?5, due = ?6, why = ?7, ended = ?8, branch = ?9
WHERE id = ?1 AND state NOT IN ('done', 'skipped')
