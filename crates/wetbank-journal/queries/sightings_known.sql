SELECT CAST(j.value->>2 AS INTEGER) AS "key!: i64", s.fingerprint
FROM json_each(?2) AS j
JOIN sighting AS s ON s.rule = j.value->>0 AND s.place = ?1 AND s.path = unhex(j.value->>1) AND s.gone IS NULL
