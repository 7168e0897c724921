-- Queries of pages whose CTR is under 70% of what the site's own curve expects at their position, by clicks missed.
SELECT page, query, impressions, position, ctr, clicks, expected_clicks, expected_clicks - clicks AS clicks_missed
FROM queries
WHERE NOT brand AND NOT thin AND impressions >= 100 AND clicks < 0.7 * expected_clicks
ORDER BY clicks_missed DESC, page, query
