"""Write a search export of about a gigabyte and read it: seconds and peak memory, as a ratio to a bare engine scan and group-by.

Usage: python benchmarks/big_csv.py FOLDER [MILLIONS_OF_ROWS]
"""

from __future__ import annotations

import resource
import subprocess
import sys
import time
from pathlib import Path

import duckdb

SETTINGS = """[site]
home = "https://tarnbrook.example/"

[[source]]
kind = "search"
files = "search.csv"

[engine]
memory = "{memory}"
"""
SCAN = "SELECT count(*), sum(c), sum(i) FROM (SELECT page, query, sum(clicks) c, sum(impressions) i FROM '{path}' GROUP BY ALL)"


def write(path: Path, millions: float) -> None:
    """Rows with heavy-tailed pages and queries, as a large site has them."""
    duckdb.sql(f"""
        COPY (
            SELECT date '2025-07-01' + (r % 488)::INT AS date,
                   'https://www.tarnbrook.example/section-' || (p % 40) || '/guide-to-page-' || p || '/' AS page,
                   'how to paddle water ' || p || ' variant ' || (q % 9) AS query,
                   ['mobile', 'desktop', 'tablet'][1 + (r % 3)::INT] AS device,
                   (r % 7 = 0)::INT * (r % 5) AS clicks, 1 + r % 60 AS impressions, round(1 + (r % 400) / 10.0, 1) AS position
            FROM (SELECT range AS r, (pow(hash(range) / 18446744073709551615.0, 3) * 300000)::BIGINT AS p, hash(range + 7) AS q FROM range({int(millions * 1e6)}))
        ) TO '{path}' (HEADER, DELIMITER ',')""")


if __name__ == "__main__":
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / "search.csv"
    if not path.exists():
        write(path, float(sys.argv[2]) if len(sys.argv) > 2 else 8.0)
    (folder / "nibbet.toml").write_text(SETTINGS.format(memory="4GB"))
    begun = time.perf_counter()
    duckdb.sql(SCAN.format(path=path)).fetchall()
    bare = time.perf_counter() - begun
    begun = time.perf_counter()
    subprocess.run([sys.executable, "-m", "nibbet", "load", str(folder), "-v"], check=True)
    ours = time.perf_counter() - begun
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(
        f"{path.stat().st_size / 1e9:.2f} GB: bare scan and group-by {bare:.1f} s, nibbet load {ours:.1f} s (ratio {ours / bare:.1f}), peak {peak:,.0f} MiB"
    )
