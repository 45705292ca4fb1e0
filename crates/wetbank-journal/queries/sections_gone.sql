-- Names of sections that were removed. What was kept for its runs only never was in the book.
SELECT DISTINCT v.name AS "name!: String"
FROM version AS v
WHERE v.kind = ?1 AND v.text IS NULL
  AND NOT EXISTS (SELECT 1 FROM section AS s WHERE s.kind = v.kind AND s.name = v.name)
ORDER BY v.name
