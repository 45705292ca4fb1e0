UPDATE attempt
SET intent = j.value->>1, place = j.value->>2, path = unhex(j.value->>3), size = j.value->>4,
    sha256 = j.value->>5, blake3 = j.value->>6
FROM json_each(?1) AS j
WHERE attempt.id = j.value->>0
