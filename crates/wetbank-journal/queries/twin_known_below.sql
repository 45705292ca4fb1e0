DELETE FROM twin_known WHERE twin = ?1 AND (folder = ?2 OR (folder >= ?3 AND folder < ?4))
