"""A site of a million pages, on DuckDB or Spark: python examples/million_pages.py [PAGES] [duckdb|pyspark]

The rows stay in Parquet and in the engine; only sums per page and query come to Python.
"""

import sys
import tempfile
import time
from pathlib import Path

import duckdb

import nibbet

pages = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
backend = sys.argv[2] if len(sys.argv) > 2 else "duckdb"
folder = Path(tempfile.mkdtemp())

# fourteen months in weekly rows: few pages are looked for much, most hardly ever; one in seven sinks in summer
duckdb.execute(
    f"""
    COPY (
        SELECT (DATE '2025-08-31' + CAST(week * 7 AS INTEGER)) AS date,
               'https://tarnbrook.example/guides/' || page || '/' AS page,
               'guide ' || page AS query,
               CAST(shown * CASE WHEN page % 7 = 0 AND week > 48 THEN 0.04 ELSE 0.2 END AS BIGINT) AS clicks,
               shown AS impressions,
               CASE WHEN page % 7 = 0 AND week > 48 THEN 9.0 ELSE 2.0 END AS position
        FROM (SELECT page, week, CAST(3 + 2000000 / (100 + page) AS BIGINT) AS shown
              FROM range({pages}) AS pages(page), range(61) AS weeks(week))
    ) TO '{folder / "search.parquet"}' (FORMAT parquet)
    """
)
began = time.perf_counter()
site = nibbet.Site(
    home="https://tarnbrook.example/",
    search=folder / "search.parquet",
    settings={"engine": {"backend": backend, "memory": "4GB"}, "topics": {"most": 50_000}},
)
verdicts = site.verdicts()
print(f"{len(site.pages()):,} pages in {time.perf_counter() - began:.0f} s on {backend}")
print(verdicts["verdict"].value_counts().to_string())
print(site.sql("SELECT count(*) AS pages, sum(clicks) AS clicks FROM pages WHERE verdict = 'refresh'").to_string(index=False))
site.close()
