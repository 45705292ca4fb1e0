INSERT INTO attempt (id, item, step, kind, number, began, outcome, place, path, intent)
VALUES (?1, ?2, ?3, ?4, ?5, ?6, 'going', ?7, ?8, ?9)
