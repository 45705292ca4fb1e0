SELECT name, fingerprint, certificate, sealed, changed FROM pgp_key ORDER BY name
