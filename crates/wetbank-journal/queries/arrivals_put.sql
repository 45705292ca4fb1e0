INSERT INTO arrival (place, path, fingerprint, size, modified, seen)
SELECT value->>0, unhex(value->>1), value->>2, value->>3, value->>4, value->>5
FROM json_each(?1) WHERE true
ON CONFLICT (place, path, fingerprint) DO NOTHING
