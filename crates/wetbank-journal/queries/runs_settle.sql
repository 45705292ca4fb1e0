-- The index of open items is partial: only with all five states does a question use it.
UPDATE run SET
  state = CASE
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state IN ('queued', 'working', 'waiting')
                 AND state IN ('queued', 'working', 'waiting', 'joining', 'held')) THEN 'running'
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state = 'held'
                 AND state IN ('queued', 'working', 'waiting', 'joining', 'held')) THEN 'held'
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state = 'joining'
                 AND state IN ('queued', 'working', 'waiting', 'joining', 'held')) THEN 'running'
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state = 'done') THEN 'done'
    ELSE 'skipped' END,
  ended = CASE
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id
                 AND state IN ('queued', 'working', 'waiting', 'joining', 'held')) THEN NULL
    ELSE j.at END
FROM (SELECT value->>0 AS id, max(value->>1) AS at FROM json_each(?1) GROUP BY 1) AS j
WHERE run.id = j.id
