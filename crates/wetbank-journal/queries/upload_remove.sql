DELETE FROM upload WHERE place = ?1 AND staged = ?2
