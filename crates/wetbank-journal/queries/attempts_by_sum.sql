SELECT DISTINCT item FROM attempt INDEXED BY attempt_by_sha256 WHERE sha256 >= ?1 AND sha256 < ?2 ORDER BY item DESC LIMIT ?3
