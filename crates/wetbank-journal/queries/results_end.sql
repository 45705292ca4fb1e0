-- Items come to their end, before that is written down: those they were made of wait for them no longer.
UPDATE item SET open_results = open_results - ended.n
FROM (
  SELECT m.source AS id, count(*) AS n
  FROM (SELECT DISTINCT value AS id FROM json_each(?1)) AS j
  JOIN item AS r ON r.id = j.id AND r.state NOT IN ('done', 'skipped')
  JOIN made AS m ON m.result = r.id
  GROUP BY 1
) AS ended
WHERE item.id = ended.id
