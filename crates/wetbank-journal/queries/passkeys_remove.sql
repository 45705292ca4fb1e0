DELETE FROM passkey WHERE user = ?1
