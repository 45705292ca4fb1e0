UPDATE attempt
SET ended = j.value->>1, outcome = j.value->>2, code = j.value->>3, message = j.value->>4, remedy = j.value->>5,
    size = coalesce(j.value->>6, size), intent = CASE WHEN j.value->>7 THEN intent END
FROM json_each(?1) AS j
WHERE attempt.id = j.value->>0
