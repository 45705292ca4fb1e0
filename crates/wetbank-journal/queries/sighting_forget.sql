UPDATE sighting SET gone = ?5
WHERE place = ?1 AND path = ?2 AND rule = ?3 AND at <= ?4 AND gone IS NULL
