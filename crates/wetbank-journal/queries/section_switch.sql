UPDATE section SET is_on = ?2 WHERE kind = 'rule' AND name = ?1
