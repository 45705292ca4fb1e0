INSERT INTO user (name, title, role, made) VALUES (?1, ?2, ?3, ?4)
ON CONFLICT (name) DO UPDATE SET title = excluded.title, role = excluded.role
