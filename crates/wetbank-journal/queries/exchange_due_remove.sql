DELETE FROM exchange_due WHERE rule = ?1 AND visit = ?2 AND exchange <= ?3
