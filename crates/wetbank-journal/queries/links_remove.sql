DELETE FROM link WHERE user = ?1 OR ends <= ?2
