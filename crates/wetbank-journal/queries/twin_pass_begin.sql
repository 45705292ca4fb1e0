INSERT INTO twin_pass (twin, began) VALUES (?1, ?2) RETURNING id AS "id!: i64"
