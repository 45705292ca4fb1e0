INSERT INTO place_state (place, at, state, why) VALUES (?1, ?2, ?3, ?4)
