INSERT INTO passkey (id, user, title, key, made) VALUES (?1, ?2, ?3, ?4, ?5)
