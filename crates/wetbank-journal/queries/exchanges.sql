SELECT id, visit, account, partner, what, seen, place, path, fingerprint, size, sum, address, at, staged FROM exchange
WHERE id < ?1 AND (?2 IS NULL OR account = ?2) AND (?3 IS NULL OR partner = ?3) AND (?4 IS NULL OR what = ?4)
ORDER BY id DESC LIMIT ?5
