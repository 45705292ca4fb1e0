SELECT id, visit, account, partner, what, seen, place, path, fingerprint, size, sum, address, at, staged FROM exchange
WHERE staged IS NOT NULL ORDER BY id
