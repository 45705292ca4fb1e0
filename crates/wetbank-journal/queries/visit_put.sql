INSERT INTO visit (account, partner, way, how, address, agent, began) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7) RETURNING id
