UPDATE outbox SET state = 'waiting', due = ?2, ended = NULL WHERE id = ?1 AND state <> 'sent'
