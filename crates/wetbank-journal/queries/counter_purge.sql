DELETE FROM counter WHERE rule = ?1 AND day < ?2
