INSERT INTO upload (place, staged, account, seen, began) VALUES (?1, ?2, ?3, ?4, ?5)
ON CONFLICT (place, staged) DO UPDATE SET began = excluded.began
