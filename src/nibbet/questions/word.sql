-- What the queries with one word bring, beside all other queries that do not name the brand. Needs --set word=canoe
WITH marked AS (
    SELECT *, contains(' ' || regexp_replace(query, '[^\w]+', ' ', 'g') || ' ', ' ' || lower($word) || ' ') AS has_word
    FROM queries
    WHERE query IS NOT NULL AND NOT brand
)
SELECT CASE WHEN has_word THEN 'with ' || $word ELSE 'without' END AS which,
       count(DISTINCT query) AS queries,
       count(DISTINCT page) AS pages,
       sum(clicks) AS clicks,
       sum(impressions) AS impressions,
       sum(clicks) / nullif(sum(impressions), 0) AS ctr,
       sum(position * impressions) / nullif(sum(impressions) FILTER (WHERE position IS NOT NULL), 0) AS position,
       sum(clicks) / nullif(sum(expected_clicks), 0) AS pull
FROM marked
GROUP BY has_word
ORDER BY has_word DESC
