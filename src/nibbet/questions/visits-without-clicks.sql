-- Pages that people visit but that draw no click from search.
SELECT page, sessions, sessions_organic, conversions, impressions, status, indexable, verdict
FROM pages
WHERE clicks = 0 AND sessions > 0
ORDER BY sessions DESC, page
