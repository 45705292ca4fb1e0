SELECT item.id AS "id!: i64", item.run, item.rule, item.state
FROM item INDEXED BY item_open_by_file
WHERE item.place = ?1 AND item.path = ?2 AND item.state IN ('queued', 'working', 'waiting', 'joining', 'held')
ORDER BY item.id
LIMIT 20
