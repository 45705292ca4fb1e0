SELECT CAST(j.value->>4 AS INTEGER) AS "key!: i64", s.fingerprint
FROM json_each(?1) AS j
JOIN sighting AS s ON s.rule = j.value->>0 AND s.place = j.value->>1 AND s.path = unhex(j.value->>2)
WHERE s.gone IS NULL AND s.at <= j.value->>3
  AND NOT EXISTS (
    SELECT 1 FROM item AS i
    WHERE i.rule = s.rule AND i.place = s.place AND i.path = s.path
      AND i.state IN ('queued', 'working', 'waiting', 'joining', 'held')
      -- A step of ours that takes files away and goes on, or was cut short, may just have done so.
      AND EXISTS (
        SELECT 1 FROM attempt AS a
        WHERE a.item = i.id AND (a.outcome = 'going' OR a.code = 'stopped')
          AND a.kind IN ('move', 'rename', 'delete', 'original')
      )
  )
