SELECT (SELECT coalesce(max(id), 0) FROM run) AS "run!: i64", (SELECT coalesce(max(id), 0) FROM item) AS "item!: i64",
       (SELECT coalesce(max(id), 0) FROM attempt) AS "attempt!: i64"
