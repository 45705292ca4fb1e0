INSERT INTO firing (rule, at) VALUES (?1, ?2)
ON CONFLICT (rule) DO UPDATE SET at = excluded.at
