INSERT INTO secret (name, sealed, changed) VALUES (?1, ?2, ?3) ON CONFLICT (name) DO UPDATE SET sealed = excluded.sealed, changed = excluded.changed
