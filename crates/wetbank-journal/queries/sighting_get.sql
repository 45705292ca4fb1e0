SELECT fingerprint FROM sighting WHERE rule = ?1 AND place = ?2 AND path = ?3 AND gone IS NULL
