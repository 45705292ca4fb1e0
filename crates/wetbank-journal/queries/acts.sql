SELECT id, at, who, address, call, about, outcome, note FROM act
WHERE id < ?1 AND (?2 IS NULL OR who = ?2)
ORDER BY id DESC LIMIT ?3
