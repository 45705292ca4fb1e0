UPDATE outbox SET state = ?2, due = ?3, tries = tries + 1, why = ?4, ended = ?5 WHERE id = ?1 AND state = 'waiting'
