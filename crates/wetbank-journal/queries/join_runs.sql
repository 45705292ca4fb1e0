SELECT DISTINCT run FROM item
WHERE state = 'joining' AND state IN ('queued', 'working', 'waiting', 'joining', 'held')
