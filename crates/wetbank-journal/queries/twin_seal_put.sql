INSERT INTO twin_seal (twin, folder, state, near, far)
SELECT value->>0, unhex(value->>1), unhex(value->>2), value->>3, value->>4 FROM json_each(?1) WHERE true
ON CONFLICT (twin, folder) DO UPDATE SET state = excluded.state, near = excluded.near, far = excluded.far
