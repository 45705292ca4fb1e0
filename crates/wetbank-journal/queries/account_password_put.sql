INSERT INTO account_password (account, password, is_once, made) VALUES (?1, ?2, ?3, ?4)
ON CONFLICT (account) DO UPDATE SET
  password = excluded.password, is_once = excluded.is_once, made = excluded.made, wrong = 0, locked = NULL
