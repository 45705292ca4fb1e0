-- Items were made of others: these wait for that many.
UPDATE item SET open_results = open_results + made.n
FROM (SELECT m.source AS id, count(*) AS n FROM json_each(?1) AS j JOIN made AS m ON m.result = j.value GROUP BY 1) AS made
WHERE item.id = made.id
