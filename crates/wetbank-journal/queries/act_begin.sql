INSERT INTO act (at, who, address, call, about) VALUES (?1, ?2, ?3, ?4, ?5) RETURNING id
