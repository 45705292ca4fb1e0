SELECT fingerprint, rule, depth FROM output WHERE place = ?1 AND path = ?2
