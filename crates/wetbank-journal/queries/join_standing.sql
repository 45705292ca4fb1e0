SELECT EXISTS (SELECT 1 FROM item WHERE run = ?1 AND state IN ('queued', 'working', 'waiting') AND kind <> 'made'
               AND state IN ('queued', 'working', 'waiting', 'joining', 'held')) AS "open!: bool",
       EXISTS (SELECT 1 FROM item WHERE run = ?1 AND state = 'held' AND kind <> 'made'
               AND state IN ('queued', 'working', 'waiting', 'joining', 'held')) AS "held!: bool",
       EXISTS (SELECT 1 FROM item i JOIN hold h ON h.item = i.id
               WHERE i.run = ?1 AND i.state = 'held' AND i.state IN ('queued', 'working', 'waiting', 'joining', 'held')
                 AND h.code IN ('stopped', 'time-limit', 'overtaken')) AS "stopped!: bool"
