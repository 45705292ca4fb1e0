INSERT INTO link (proof, user, ends) VALUES (?1, ?2, ?3)
