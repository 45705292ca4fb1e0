INSERT INTO made (source, result) SELECT value->>0, value->>1 FROM json_each(?1)
