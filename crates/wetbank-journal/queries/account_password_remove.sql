DELETE FROM account_password WHERE account = ?1
