-- Somebody looked what became of it: nothing that has to be brought to its end.
UPDATE attempt SET intent = NULL
FROM json_each(?1) AS j
WHERE attempt.id = j.value
