INSERT INTO user (name, title, rights, made) VALUES (?1, ?2, ?3, ?4)
ON CONFLICT (name) DO UPDATE SET title = excluded.title, rights = excluded.rights
