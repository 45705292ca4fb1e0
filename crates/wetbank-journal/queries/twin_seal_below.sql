DELETE FROM twin_seal WHERE twin = ?1 AND (folder = ?2 OR (folder >= ?3 AND folder < ?4))
