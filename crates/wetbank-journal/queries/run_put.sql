INSERT INTO run (id, rule, version, cause, started, state) VALUES (?1, ?2, ?3, ?4, ?5, 'running')
