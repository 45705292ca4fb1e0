UPDATE api_token SET used = (SELECT json_extract(value, '$[1]') FROM json_each(?1) WHERE json_extract(value, '$[0]') = api_token.name)
WHERE name IN (SELECT json_extract(value, '$[0]') FROM json_each(?1))
