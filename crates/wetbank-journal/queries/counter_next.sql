INSERT INTO counter (rule, day, value) VALUES (?1, ?2, 1)
ON CONFLICT (rule, day) DO UPDATE SET value = value + 1
RETURNING value
