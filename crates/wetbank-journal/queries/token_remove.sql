DELETE FROM api_token WHERE name = ?1
