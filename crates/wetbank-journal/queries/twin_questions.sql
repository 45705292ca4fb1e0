SELECT h.item, h.why FROM hold h JOIN item i ON i.id = h.item WHERE i.rule = ?1 AND i.branch = ?2 ORDER BY h.item
