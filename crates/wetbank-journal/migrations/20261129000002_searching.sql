-- That a search takes files again that were taken before is what the search has in hand, and no text about its run.
UPDATE item SET hand = '{"again":true}'
WHERE kind = 'find' AND state IN ('queued', 'working', 'waiting')
  AND run IN (SELECT id FROM run WHERE about LIKE '%"run.all"%');
UPDATE run SET about = NULLIF(json_remove(about, '$."run.all"'), '{}') WHERE about LIKE '%"run.all"%';
