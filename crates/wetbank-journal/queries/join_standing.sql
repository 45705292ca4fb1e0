SELECT EXISTS (SELECT 1 FROM item INDEXED BY item_to_do_by_run
                 WHERE run = ?1 AND state IN ('queued', 'working', 'waiting') AND kind <> 'made')
         AS "open!: bool",
       EXISTS (SELECT 1 FROM item INDEXED BY item_held WHERE run = ?1 AND state = 'held' AND kind <> 'made') AS "held!: bool",
       EXISTS (SELECT 1 FROM item i INDEXED BY item_held JOIN hold h ON h.item = i.id
               WHERE i.run = ?1 AND i.state = 'held' AND h.code IN ('stopped', 'time-limit', 'overtaken'))
         AS "stopped!: bool"
