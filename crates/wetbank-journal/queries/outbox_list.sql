SELECT id AS "id!", item, run, rule, place, recipients, subject, state, queued, due, tries, why, ended FROM outbox
ORDER BY state = 'waiting' DESC, id DESC LIMIT ?1
