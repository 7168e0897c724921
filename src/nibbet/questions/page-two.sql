-- Queries without the brand whose page stands just past the first ten results, those shown most first.
SELECT page, query, clicks, impressions, position, answer
FROM queries
WHERE role = 'owner' AND NOT brand AND position BETWEEN 10.5 AND 20.5
ORDER BY impressions DESC, page, query
