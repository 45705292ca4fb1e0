SELECT at, state, why FROM place_state
WHERE place = ?1
  AND at >= coalesce((SELECT max(before.at) FROM place_state AS before WHERE before.place = ?1 AND before.at <= ?2), ?2)
ORDER BY at, id LIMIT 1000
