INSERT INTO exchange_due (rule, visit, exchange) VALUES (?1, ?2, ?3)
