INSERT INTO run (id, rule, version, cause, why, started, ended, state) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?6, 'skipped')
