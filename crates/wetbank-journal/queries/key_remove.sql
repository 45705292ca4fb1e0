DELETE FROM pgp_key WHERE name = ?1
