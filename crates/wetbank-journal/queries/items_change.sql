UPDATE item
SET state = j.value->>1, step = j.value->>2, hand = j.value->>3, failures = j.value->>4, due = j.value->>5,
    why = j.value->>6, ended = j.value->>7, branch = j.value->>8
FROM json_each(?1) AS j
WHERE item.id = j.value->>0 AND item.state NOT IN ('done', 'skipped')
