SELECT EXISTS (SELECT 1 FROM item WHERE run = ?1 AND state IN ('queued', 'working', 'waiting') AND kind <> 'made') AS "open!: bool",
       EXISTS (SELECT 1 FROM item WHERE run = ?1 AND state = 'held' AND kind <> 'made') AS "held!: bool"
