UPDATE session SET seen = (SELECT json_extract(value, '$[1]') FROM json_each(?1) WHERE json_extract(value, '$[0]') = session.id)
WHERE id IN (SELECT json_extract(value, '$[0]') FROM json_each(?1))
