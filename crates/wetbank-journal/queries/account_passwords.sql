SELECT account, password, is_once AS "is_once: bool", made, wrong, locked FROM account_password
