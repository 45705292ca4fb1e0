UPDATE run SET
  state = CASE
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state IN ('queued', 'working', 'waiting')) THEN 'running'
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state = 'held') THEN 'held'
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state = 'done') THEN 'done'
    ELSE 'skipped' END,
  ended = CASE
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state NOT IN ('done', 'skipped')) THEN NULL
    ELSE ?2 END
WHERE id = ?1
