SELECT u.notice, p.id, p.run, p.began, p.ended FROM twin_untold u JOIN twin_pass p ON p.id = u.pass
WHERE u.twin = ?1 ORDER BY u.notice, p.id
