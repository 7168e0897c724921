-- Queries with demand for which a page stands just past the first ten results.
SELECT page, query, clicks, impressions, position, answer
FROM queries
WHERE role = 'owner' AND NOT brand AND position BETWEEN 10.5 AND 20.5
ORDER BY impressions DESC, page, query
