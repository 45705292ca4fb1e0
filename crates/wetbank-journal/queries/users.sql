SELECT name AS "name!", title, rights, password, seed, step, identity, made, seen FROM user ORDER BY name
