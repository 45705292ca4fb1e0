INSERT INTO chained (rule, version, place, path, fingerprint, size, depth, about)
SELECT value->>0, value->>1, value->>2, unhex(value->>3), value->>4, value->>5, value->>6, value->>7 FROM json_each(?1)
