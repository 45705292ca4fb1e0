UPDATE attempt SET intent = ?2, place = ?3, path = ?4, size = ?5, sha256 = ?6, blake3 = ?7 WHERE id = ?1
