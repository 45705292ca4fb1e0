SELECT name AS "name!", title, rights, password, seed, step, made, seen FROM user ORDER BY name
