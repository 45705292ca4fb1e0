SELECT (SELECT count(*) FROM secret) + (SELECT count(*) FROM pgp_key WHERE sealed IS NOT NULL)
  + (SELECT count(*) FROM user WHERE seed IS NOT NULL)
  + (SELECT count(*) FROM setting WHERE key = 'provider') AS "sealed!: i64"
