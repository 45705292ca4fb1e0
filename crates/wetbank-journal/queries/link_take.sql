DELETE FROM link WHERE proof = ?1 AND ends > ?2
