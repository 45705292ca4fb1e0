UPDATE twin_pass SET plan = ?2, run = coalesce(?3, run), why = ?4, ended = ?5 WHERE id = ?1
