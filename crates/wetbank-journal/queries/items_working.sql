UPDATE item SET state = 'working', branch = j.value->>1, step = j.value->>2
FROM json_each(?1) AS j
WHERE item.id = j.value->>0 AND item.state IN ('queued', 'working', 'waiting')
