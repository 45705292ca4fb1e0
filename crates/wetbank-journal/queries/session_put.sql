INSERT INTO session (proof, user, how, address, agent, began, seen, ends) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?6, ?7)
RETURNING id AS "id!"
