INSERT INTO exchange (visit, account, partner, what, seen, place, path, fingerprint, size, sum, address, at, staged)
VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13) RETURNING id
