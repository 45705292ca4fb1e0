UPDATE sighting SET gone = j.value->>4
FROM json_each(?1) AS j
WHERE sighting.rule = j.value->>0 AND sighting.place = j.value->>1 AND sighting.path = unhex(j.value->>2)
  AND sighting.at <= j.value->>3 AND sighting.gone IS NULL
