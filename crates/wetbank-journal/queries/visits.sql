SELECT id, account, partner, way, how, address, agent, began, ended FROM visit
WHERE id < ?1 AND (?2 IS NULL OR account = ?2)
ORDER BY id DESC LIMIT ?3
