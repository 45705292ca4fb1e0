INSERT INTO api_token (name, proof, user, role, maker, made, ends) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)
