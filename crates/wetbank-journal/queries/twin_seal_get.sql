SELECT state, near, far FROM twin_seal WHERE twin = ?1 AND folder = ?2
