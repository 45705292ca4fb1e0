INSERT INTO exchange_item (exchange, item) VALUES (?1, ?2)
