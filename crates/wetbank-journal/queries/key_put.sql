INSERT INTO pgp_key (name, fingerprint, certificate, sealed, changed) VALUES (?1, ?2, ?3, ?4, ?5)
ON CONFLICT (name) DO UPDATE
SET fingerprint = excluded.fingerprint, certificate = excluded.certificate,
    sealed = coalesce(excluded.sealed, sealed), changed = excluded.changed
