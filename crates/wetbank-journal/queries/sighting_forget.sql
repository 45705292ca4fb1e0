DELETE FROM sighting WHERE place = ?1 AND path = ?2 AND rule = ?3 AND at <= ?4
