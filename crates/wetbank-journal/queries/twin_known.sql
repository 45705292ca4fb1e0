SELECT name, far, was, states
FROM twin_known
WHERE twin = ?1 AND folder = ?2
