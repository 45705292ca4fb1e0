SELECT id, began, ended, run, plan, why FROM twin_pass WHERE twin = ?1 ORDER BY id DESC LIMIT ?2
