INSERT INTO name_index (rowid, name) VALUES (?1, ?2)
