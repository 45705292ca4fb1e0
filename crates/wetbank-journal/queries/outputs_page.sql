SELECT place, path, item FROM output WHERE (place, path) > (?1, ?2) ORDER BY place, path LIMIT ?3
