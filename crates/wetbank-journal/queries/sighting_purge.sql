DELETE FROM sighting WHERE gone < ?1
