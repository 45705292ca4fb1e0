UPDATE run SET
  state = CASE
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state IN ('queued', 'working', 'waiting')) THEN 'running'
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state = 'held') THEN 'held'
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state = 'joining') THEN 'running'
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state = 'done') THEN 'done'
    ELSE 'skipped' END,
  ended = CASE
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id
                 AND state IN ('queued', 'working', 'waiting', 'joining', 'held')) THEN NULL
    ELSE j.value->>1 END
FROM json_each(?1) AS j
WHERE run.id = j.value->>0
