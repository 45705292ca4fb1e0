SELECT name, changed FROM secret ORDER BY name
