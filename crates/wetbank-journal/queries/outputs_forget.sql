DELETE FROM output
WHERE (place, path, item) IN (
  SELECT j.value->>0, unhex(j.value->>1), j.value->>2
  FROM json_each(?1) AS j JOIN item AS i ON i.id = j.value->>2
  WHERE i.state IN ('done', 'skipped') AND i.ended < ?3 AND j.value->>0 NOT IN (SELECT value FROM json_each(?2))
)
