SELECT max(coalesce((SELECT max(id) FROM arrival WHERE seen < ?1), 0),
           coalesce((SELECT id FROM arrival ORDER BY id DESC LIMIT 1 OFFSET ?2), 0)) AS "id!: i64"
