SELECT CAST(j.value->>5 AS INTEGER) AS "key!: i64", o.fingerprint, o.rule, o.depth
FROM json_each(?1) AS j JOIN output AS o ON o.place = j.value->>1 AND o.path = unhex(j.value->>2)
