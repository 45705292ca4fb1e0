SELECT at FROM firing WHERE rule = ?1
