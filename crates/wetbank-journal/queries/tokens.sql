SELECT name AS "name!", proof, user, role, maker, made, ends, used FROM api_token ORDER BY name
