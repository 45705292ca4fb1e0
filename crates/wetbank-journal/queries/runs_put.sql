INSERT INTO run (id, rule, version, cause, about, started, state)
SELECT value->>0, value->>1, value->>2, value->>3, value->>4, ?2, 'running' FROM json_each(?1)
