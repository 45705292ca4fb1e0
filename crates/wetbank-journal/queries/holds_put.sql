INSERT INTO hold (item, since, code, why, remedy)
SELECT value->>0, value->>1, value->>2, value->>3, value->>4 FROM json_each(?1) WHERE true
ON CONFLICT (item) DO UPDATE SET since = excluded.since, code = excluded.code, why = excluded.why, remedy = excluded.remedy
