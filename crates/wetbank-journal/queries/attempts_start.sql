INSERT INTO attempt (id, item, step, kind, number, began, outcome, place, path, intent)
SELECT value->>0, value->>1, value->>2, value->>3, value->>4, value->>5, 'going', value->>6, unhex(value->>7), value->>8
FROM json_each(?1)
