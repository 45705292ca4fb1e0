DELETE FROM twin_known WHERE twin = ?1 AND folder = ?2 AND name = ?3
