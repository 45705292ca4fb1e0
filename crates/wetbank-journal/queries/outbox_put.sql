INSERT INTO outbox (id, item, run, rule, place, recipients, subject, state, queued, due)
SELECT value->>0, value->>1, value->>2, value->>3, value->>4, value->>5, value->>6, 'waiting', value->>7, value->>7
FROM json_each(?1) WHERE true
ON CONFLICT (id) DO NOTHING
