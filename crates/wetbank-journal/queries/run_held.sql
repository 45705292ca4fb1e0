SELECT place, path FROM item WHERE run = ?1 AND state = 'held' ORDER BY id LIMIT 1
