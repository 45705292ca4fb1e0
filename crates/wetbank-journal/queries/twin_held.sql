SELECT i.place, i.path FROM hold h JOIN item i ON i.id = h.item WHERE i.rule = ?1
