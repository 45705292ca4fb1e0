DELETE FROM twin_untold WHERE twin = ?1 AND notice = ?2 AND pass <= ?3
