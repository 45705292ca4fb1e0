-- Each question is one that a partial index of open items answers.
UPDATE run SET
  state = CASE
    WHEN EXISTS (SELECT 1 FROM item INDEXED BY item_to_do_by_run
                 WHERE run = run.id AND state IN ('queued', 'working', 'waiting')) THEN 'running'
    WHEN EXISTS (SELECT 1 FROM item INDEXED BY item_held WHERE run = run.id AND state = 'held') THEN 'held'
    WHEN EXISTS (SELECT 1 FROM item INDEXED BY item_joining WHERE run = run.id AND state = 'joining') THEN 'running'
    WHEN EXISTS (SELECT 1 FROM item WHERE run = run.id AND state = 'done') THEN 'done'
    ELSE 'skipped' END,
  ended = CASE
    WHEN EXISTS (SELECT 1 FROM item INDEXED BY item_to_do_by_run
                 WHERE run = run.id AND state IN ('queued', 'working', 'waiting'))
      OR EXISTS (SELECT 1 FROM item INDEXED BY item_held WHERE run = run.id AND state = 'held')
      OR EXISTS (SELECT 1 FROM item INDEXED BY item_joining WHERE run = run.id AND state = 'joining') THEN NULL
    ELSE j.at END
FROM (SELECT value->>0 AS id, max(value->>1) AS at FROM json_each(?1) GROUP BY 1) AS j
WHERE run.id = j.id
