UPDATE twin_pass SET plan = ?2, run = ?3, why = ?4, ended = ?5 WHERE id = ?1
