SELECT id, visit, account, partner, what, seen, place, path, fingerprint, size, sum, address, at, staged FROM exchange
WHERE place = ?1 AND path = ?2 ORDER BY id DESC LIMIT ?3
