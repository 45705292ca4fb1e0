DELETE FROM twin_known WHERE twin = ?1
