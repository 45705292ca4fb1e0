DELETE FROM outbox WHERE state <> 'waiting' AND ended < ?1
