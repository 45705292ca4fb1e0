DELETE FROM twin_seal WHERE (twin, folder) IN (SELECT value->>0, unhex(value->>1) FROM json_each(?1))
