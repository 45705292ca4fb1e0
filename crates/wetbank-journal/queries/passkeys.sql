SELECT id AS "id!", user, title, key, made, used FROM passkey ORDER BY made
