SELECT place, path, size, modified, seen FROM arrival WHERE id = ?1
