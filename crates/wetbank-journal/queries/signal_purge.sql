DELETE FROM signal WHERE at < ?1
