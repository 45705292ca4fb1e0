UPDATE attempt SET ended = ?2, outcome = ?3, code = ?4, message = ?5, remedy = ?6, size = coalesce(?7, size) WHERE id = ?1
