SELECT MIN(due) AS "due?: i64" FROM outbox WHERE state = 'waiting'
