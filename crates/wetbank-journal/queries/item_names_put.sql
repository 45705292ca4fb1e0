INSERT INTO item_name (rowid, name) SELECT value->>0, value->>1 FROM json_each(?1)
