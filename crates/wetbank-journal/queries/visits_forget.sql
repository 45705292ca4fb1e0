DELETE FROM visit WHERE id IN (SELECT id FROM visit WHERE began < ?1 AND ended IS NOT NULL ORDER BY began LIMIT ?2)
