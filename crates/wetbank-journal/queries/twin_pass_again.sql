UPDATE twin_pass SET ended = ?2, plan = coalesce(?3, plan) WHERE id = ?1
