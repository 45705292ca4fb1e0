INSERT INTO twin_known (twin, folder, name, far, was, states)
SELECT value->>0, unhex(value->>1), unhex(value->>2), unhex(value->>3), value->>4, value->>5
FROM json_each(?1) WHERE true
ON CONFLICT (twin, folder, name) DO UPDATE SET far = excluded.far, was = excluded.was, states = excluded.states
