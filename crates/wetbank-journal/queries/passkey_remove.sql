DELETE FROM passkey WHERE id = ?1
