INSERT INTO hold (item, since, code, why, remedy) VALUES (?1, ?2, ?3, ?4, ?5)
ON CONFLICT (item) DO UPDATE SET since = excluded.since, code = excluded.code, why = excluded.why, remedy = excluded.remedy
