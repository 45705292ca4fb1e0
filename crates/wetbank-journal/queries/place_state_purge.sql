DELETE FROM place_state WHERE at < ?1
