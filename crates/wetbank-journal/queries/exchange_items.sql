SELECT item FROM exchange_item WHERE exchange = ?1 ORDER BY item
