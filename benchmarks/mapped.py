"""A site of a million pages and twenty million pairs of page and query: how long loading and deciding take, and which planted groups are found.

Usage: python benchmarks/mapped.py FOLDER [--pages 1000000] [--again]

Writes FOLDER/site (Parquet), loads it, and decides; every step is told with its time. One page in twenty is written twice: its double draws
the same queries and takes turns with it.
"""

from __future__ import annotations

import argparse
import resource
import subprocess
import sys
import threading
import time
from pathlib import Path

import duckdb
import pandas as pd

import nibbet

PAGES = """
CREATE TABLE pages AS
SELECT p, hash(p) % 20 = 0 AND hash(p - 1) % 20 <> 0 AND p > 0 AS double,
       CASE WHEN double THEN p - 1 ELSE p END AS subject,
       greatest(4, least(90, CAST(floor(9.5 / sqrt((hash(subject * 7 + 1) % 1000003 + 1) / 1000003.0)) AS INTEGER))) AS n,
       exp(((hash(subject * 13 + 5) % 2001) / 1000.0 - 1) * 1.3) AS size,
       '/part-' || (subject % 60) || '/' || CASE WHEN double THEN 'more-' ELSE '' END || 'subj' || to_base(subject, 36) || '/' AS page
FROM range({count}) t(p)
"""
ROWS = """
COPY (
  WITH own AS (
    SELECT page, double, hash(p + 1) % 20 = 0 AND hash(p) % 20 <> 0 AS doubled, subject, size, unnest(range(n)) AS k FROM pages
  ), pairs AS (
    SELECT page, double OR doubled AS twice, double, k, subject,
           'subj' || to_base(subject, 36) || ' ' || 'way' || k AS query,
           greatest(1, CAST(size * 160 / pow(k + 1, 1.05) AS INTEGER)) AS impressions, 1.5 + hash(subject * 3 + k) % 90 / 10.0 AS position
    FROM own
    UNION ALL
    SELECT page, false, false, 99, subject, 'head ' || CAST(floor(60000 * pow((hash(p * 5 + k) % 1000003) / 1000003.0, 3)) AS INTEGER),
           2 + hash(p + k) % 30, 4 + hash(p * 11 + k) % 200 / 10.0
    FROM pages, range(2) t(k)
  ), days AS (
    SELECT *, 0 AS d FROM pairs WHERE NOT twice
    UNION ALL
    SELECT pairs.*, d FROM pairs, range(6) t(d) WHERE twice AND k < 12
  )
  SELECT DATE '2026-10-31' - CAST((CASE WHEN twice THEN d * 3 ELSE hash(subject + k) % 80 END) AS INTEGER) AS date,
         'https://large.example' || page AS page, query,
         CAST(floor(seen * 0.28 / pow(place, 1.1) + (hash(subject + k * 31 + d) % 1000) / 1000.0) AS BIGINT) AS clicks, seen AS impressions, place AS position
  FROM (SELECT *, CASE WHEN twice THEN greatest(1, impressions // 6) ELSE impressions END AS seen,
               CASE WHEN twice THEN CASE WHEN (hash(subject * 101 + k * 7 + d) % 2 = 0) = double THEN 3.0 ELSE 7.0 END ELSE position END AS place FROM days)
) TO '{path}' (FORMAT parquet)
"""
CRAWL = """
COPY (SELECT 'https://large.example' || page AS page, 200 AS status, 'Subj' || to_base(subject, 36) || ' told' AS title,
             DATE '2020-01-01' AS published, 5 AS inlinks, 4 AS outlinks FROM pages) TO '{path}' (FORMAT parquet)
"""
SETTINGS = """[site]
home = "https://large.example/"
as_of = 2026-10-31
[[source]]
kind = "search"
files = "search.parquet"
[[source]]
kind = "crawl"
files = "crawl.parquet"
"""


def resident() -> float:
    """GiB of memory that this process holds now."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize() / 2**30


def write(folder: Path, count: int) -> None:
    """The site of `count` pages, and pages.parquet with what was planted."""
    folder.mkdir(parents=True, exist_ok=True)
    with duckdb.connect() as engine:
        engine.execute(PAGES.format(count=count))
        engine.execute(ROWS.format(path=folder / "search.parquet"))
        engine.execute(CRAWL.format(path=folder / "crawl.parquet"))
        engine.execute(f"COPY (SELECT * FROM pages) TO '{folder / 'planted.parquet'}' (FORMAT parquet)")
    (folder / "nibbet.toml").write_text(SETTINGS, "utf-8")


def main() -> None:
    """Write, load, decide, and compare with what was planted."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folder", type=Path)
    parser.add_argument("--pages", type=int, default=1_000_000)
    parser.add_argument("--again", action="store_true", help="the site is there and loaded already")
    given = parser.parse_args()
    folder = given.folder / "site"
    if not given.again:
        write(folder, given.pages)
        began = time.perf_counter()
        subprocess.run([sys.executable, "-m", "nibbet", "load", str(folder), "-q"], check=True, stdout=subprocess.DEVNULL)
        print(f"load {time.perf_counter() - began:.1f} s", flush=True)
    began = last = time.perf_counter()
    start = peak = resident()

    def watch() -> None:
        nonlocal peak
        while True:
            peak = max(peak, resident())
            time.sleep(0.05)

    threading.Thread(target=watch, daemon=True).start()
    under_way = "starting"

    def told(step: str) -> None:
        nonlocal last, start, peak, under_way
        now = time.perf_counter()
        print(f"  {now - last:6.1f} s, up to {peak:5.2f} GiB, {peak - start:5.2f} more than before: {under_way}", flush=True)
        last, under_way = now, step
        start = peak = resident()

    site = nibbet.open_site(folder, say=told)
    pages, groups = site.pages(), site.groups()
    told("end")
    print(
        f"decide {time.perf_counter() - began:.1f} s; {len(site.queries()):,} pairs; verdicts {pages['verdict'].value_counts().to_dict()}"
    )
    planted = pd.read_parquet(folder / "planted.parquet").query("double")
    found, apart = groups.set_index("page")["group"], site.apart()
    address = "https://large.example" + planted["page"]
    partner = address.str.replace("/more-", "/", regex=False)
    together = address.map(found).notna() & (address.map(found).to_numpy() == partner.map(found).to_numpy())
    seen = set(apart["page"] + apart["other"]) | set(apart["other"] + apart["page"])
    met = together | (address + partner.to_numpy()).isin(seen).to_numpy()
    print(
        f"planted doubles found {met.mean():.4f} of {len(planted):,}, merged {together.mean():.4f} (the rest gains nothing by it); groups {groups['group'].nunique():,}"
    )


if __name__ == "__main__":
    main()
