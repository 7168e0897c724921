-- How many queries each page draws, how many it answers, and how many make half of its impressions.
WITH ranked AS (
    SELECT page, query, impressions, answer,
           sum(impressions) OVER (PARTITION BY page ORDER BY impressions DESC, query) - impressions AS before,
           sum(impressions) OVER (PARTITION BY page) AS whole
    FROM queries
    WHERE query IS NOT NULL AND impressions > 0
)
SELECT page,
       count(*) AS queries,
       count(*) FILTER (WHERE answer >= 0.5) AS answered,
       count(*) FILTER (WHERE before < whole / 2) AS half_from,
       arg_min(query, before) AS first_query
FROM ranked
GROUP BY page
ORDER BY queries DESC, page
