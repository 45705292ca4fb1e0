INSERT INTO item (id, run, rule, place, path, fingerprint, size, state, depth, taken, kind, branch, hand)
SELECT value->>0, value->>1, value->>2, value->>3, unhex(value->>4), value->>5, value->>6, 'queued', value->>7, ?2,
       value->>8, value->>9, value->>10
FROM json_each(?1)
