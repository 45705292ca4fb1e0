SELECT place, path FROM item WHERE run = ?1 AND kind = 'file'
