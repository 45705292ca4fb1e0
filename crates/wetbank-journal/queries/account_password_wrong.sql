UPDATE account_password SET wrong = ?2, locked = ?3 WHERE account = ?1
