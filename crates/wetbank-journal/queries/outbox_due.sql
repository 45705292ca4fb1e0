SELECT id AS "id!", item, run, rule, place, recipients, subject, state, queued, due, tries, why, ended FROM outbox
WHERE state = 'waiting' AND due <= ?1 ORDER BY due LIMIT ?2
