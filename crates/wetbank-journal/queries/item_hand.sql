UPDATE item SET hand = ?1 WHERE id = ?2
