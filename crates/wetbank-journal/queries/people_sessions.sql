SELECT id, proof, user, how, address, agent, began, seen, ends FROM session ORDER BY id
