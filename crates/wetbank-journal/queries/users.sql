SELECT name AS "name!", title, role, password, seed, step, made, seen FROM user ORDER BY name
