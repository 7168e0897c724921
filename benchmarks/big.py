"""Time whole commands on exports of 1, 10, 100 million rows against a bare engine scan and against a plain pandas script.

Usage: python benchmarks/big.py FOLDER [MILLIONS ...] [--parquet] [--pandas] [--append]

For each size it writes a made-up search export once, then runs, one after the other in one go and each in a process of its own:
the floor (a scan of the same file and group-by of page and query by the same engine), the pandas script, `nibbet load`, `nibbet run`
and `nibbet decide` twice. All figures are ratios to the floor of that go; a machine that is busy slows all of them alike.
"""

from __future__ import annotations

import argparse
import math
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

SETTINGS = """[site]
home = "https://tarnbrook.example/"
brand = ["tarnbrook"]

[[source]]
kind = "search"
files = "{files}"

[engine]
memory = "4GB"
"""
SUMS = "SELECT count(*), sum(c), sum(i) FROM (SELECT page, query, sum(clicks) c, sum(impressions) i FROM '{files}' GROUP BY ALL)"
FLOOR = """
import duckdb
connection = duckdb.connect(config={{"memory_limit": "4GB", "temp_directory": "{spill}", "preserve_insertion_order": "false"}})
print(connection.execute("{sums}").fetchall())
"""
DAYS = """
import duckdb
connection = duckdb.connect(config={{"memory_limit": "4GB", "temp_directory": "{spill}", "preserve_insertion_order": "false"}})
connection.execute("SELECT count(*) FROM (SELECT page, query, count(DISTINCT date) FROM '{files}' WHERE date >= '2026-08-03' GROUP BY ALL)").fetchall()
"""
#: what an analyst would write for the job of `nibbet load`: read, fold addresses, sum days, pages and pairs by window, count active days,
#: learn what each place is usually chosen, tell what was to be expected, number the queries, keep all of it
PANDAS = """
import glob
from urllib.parse import urlsplit
import numpy as np, pandas as pd
read = pd.read_parquet if "{files}".endswith("parquet") else lambda path: pd.read_csv(path, parse_dates=["date"])
rows = pd.concat([read(path) for path in sorted(glob.glob("{files}"))])
def folded(address):
    parts = urlsplit(address.strip())
    return parts.netloc.lower().removeprefix("www.") + (parts.path.lower() or "/")
codes, addresses = pd.factorize(rows["page"])
rows["page"] = pd.Series([folded(address) for address in addresses]).to_numpy()[codes]
rows["query"] = rows["query"].str.strip().str.lower()
rows["brand"] = rows["query"].str.contains("tarnbrook", regex=False)
rows["weighted"] = rows["position"] * rows["impressions"]
rows["bin"] = np.floor(np.log(rows["position"].clip(lower=1)) * 10).astype(int)
ends = {{"recent": ("2026-08-03", "2026-10-31"), "before": ("2025-08-03", "2025-10-31"), "long": ("2025-11-01", "2026-10-31"), "last": ("2026-10-04", "2026-10-31")}}
parts = {{name: rows[rows["date"].between(*days)] for name, days in ends.items()}}
place = ["device", "brand", "bin"]
seen = parts["long"].groupby(place)[["clicks", "impressions"]].sum()
curve = (seen["clicks"] / seen["impressions"]).rename("rate")
sums = ["clicks", "impressions", "weighted"]
rows.groupby("date")[sums].sum().to_parquet("{spill}-days.parquet")
for name, part in {{**parts, "all": rows}}.items():
    part.groupby("page")[sums].sum().to_parquet(f"{spill}-pages-{{name}}.parquet")
for name in ("recent", "before"):
    part = parts[name].join(curve, on=place)
    part["expected"] = part["impressions"] * part["rate"]
    pairs = part.groupby(["page", "query"], as_index=False).agg(
        clicks=("clicks", "sum"), impressions=("impressions", "sum"), weighted=("weighted", "sum"), expected=("expected", "sum"), days=("date", "nunique")
    )
    pairs["query_id"], queries = pd.factorize(pairs["query"], sort=True)
    pairs.drop(columns="query").to_parquet(f"{spill}-pairs-{{name}}.parquet")
    pd.DataFrame({{"query": queries}}).to_parquet(f"{spill}-queries-{{name}}.parquet")
"""


def write(folder: Path, millions: float, *, parquet: bool) -> str:
    """An export with heavy-tailed pages and queries from a vocabulary as languages have it; returns the pattern of its files."""
    import duckdb

    pattern = "search/*.parquet" if parquet else "search/search.csv"
    if (folder / "search").exists():
        return pattern
    (folder / "search").mkdir(parents=True)
    connection = duckdb.connect(
        config={"memory_limit": "6GB", "preserve_insertion_order": "false", "temp_directory": str(folder / "spill")}
    )
    rows = int(millions * 1e6)
    pages, queries = int(300_000 * (millions / 10) ** 0.5), int(6_000_000 * (millions / 10) ** 0.85)
    parts = max(1, int(millions // 5)) if parquet else 1
    for part in range(parts):
        target = folder / "search" / (f"part-{part:03}.parquet" if parquet else "search.csv")
        first, last = rows * part // parts, rows * (part + 1) // parts
        connection.execute(f"COPY ({_rows(first, last, pages, queries)}) TO '{target}' ({'FORMAT parquet' if parquet else 'HEADER'})")
    return pattern


def _rows(first: int, last: int, pages: int, queries: int) -> str:
    def chance(salt: int) -> str:
        return f"(hash(r * 64 + {salt}) / 18446744073709551615.0)"

    def word(salt: int) -> str:  # Zipf's law: the rank of a word falls as a power of chance
        return f"'w' || (pow(hash(q * 8 + {salt}) / 18446744073709551615.0, 3) * 40000)::INT"

    return f"""
        SELECT date '2025-07-01' + (hash(r * 64 + 3) % 488)::INT AS date,
               'https://www.tarnbrook.example/section-' || (p % 40) || '/guide-to-page-' || p || '/' AS page,
               CASE WHEN {chance(31)} < 0.004 THEN 'tarnbrook'
                    ELSE 'paddle ' || {word(1)} || ' ' || {word(2)} || ' near ' || {word(3)} || ' ' || (q % 97) END AS query,
               ['gbr', 'irl', 'usa', 'deu'][1 + (pow({chance(11)}, 2) * 4)::INT % 4] AS country,
               ['mobile', 'desktop', 'tablet'][1 + (pow({chance(5)}, 2) * 3)::INT % 3] AS device,
               (hash(r * 64 + 9) % 7 = 0)::INT * (hash(r * 64 + 13) % 5)::INT AS clicks,
               1 + (pow({chance(17)}, 4) * 300)::INT AS impressions,
               round(1 + pow({chance(19)}, 1.5) * 60, 1) AS position
        FROM (SELECT r, q, CASE WHEN {chance(23)} < 0.12 THEN (q + 1 + hash(r * 64 + 29) % 2) % {pages} ELSE q % {pages} END AS p
              FROM (SELECT range AS r, (pow(hash(range * 64) / 18446744073709551615.0, 3) * {queries})::BIGINT AS q
                    FROM range({first}, {last})))"""


def timed(*command: str, cwd: Path) -> tuple[float, float]:
    """Seconds, and the peak of resident memory in MiB."""
    begun = time.perf_counter()
    process = subprocess.Popen(command, cwd=cwd, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    if status:
        raise SystemExit(f"{' '.join(command)[:200]} failed")
    return time.perf_counter() - begun, usage.ru_maxrss / 1024


def measure(folder: Path, files: str, *, with_pandas: bool) -> dict[str, float]:
    """One go; prints and returns the seconds of each step."""
    (folder / "nibbet.toml").write_text(SETTINGS.format(files=files))
    nibbet = str(Path(sys.executable).parent / "nibbet")
    spill = str(folder / "spill")
    steps = {
        "floor": [sys.executable, "-c", FLOOR.format(sums=SUMS.format(files=files), spill=spill)],
        "pandas": [sys.executable, "-c", PANDAS.format(files=files, spill=spill)] if with_pandas else [],
        "active days": [sys.executable, "-c", DAYS.format(files=files, spill=spill)],
        "load": [nibbet, "load", "-q", "--fresh"],
        "run": [nibbet, "run", "-q"],
        "decide": [nibbet, "decide", "-q", "--top", "20"],
        "decide again": [nibbet, "decide", "-q", "--top", "20"],
        "floor again": [sys.executable, "-c", FLOOR.format(sums=SUMS.format(files=files), spill=spill)],
    }
    taken: dict[str, float] = {}
    for name, command in steps.items():
        if command:
            taken[name], peak = timed(*command, cwd=folder)
            floor = taken["floor"] if "floor again" not in taken else (taken["floor"] + taken["floor again"]) / 2
            print(f"  {name:13} {taken[name]:8.1f} s  {taken[name] / floor:6.2f} of the floor  {peak:8,.0f} MiB", flush=True)
    taken["whole run"] = taken["load"] + taken["run"]
    print(f"  load and run  {taken['whole run']:8.1f} s  {taken['whole run'] / taken['floor']:6.2f} of the floor")
    return taken


def append(folder: Path, files: str) -> None:
    """A seventeenth month after sixteen: what `nibbet load` costs against loading all of it."""
    import duckdb

    months = folder / "months"
    if not months.exists():
        (months / "search").mkdir(parents=True)
        duckdb.execute(
            f"""COPY (SELECT *, strftime(date, '%Y-%m') AS month FROM '{folder}/{files}' WHERE date < '2026-11-01')
            TO '{months}/by' (FORMAT csv, HEADER, PARTITION_BY (month), OVERWRITE)"""
        )
        for part in sorted((months / "by").iterdir()):
            files = sorted(part.iterdir())
            lines = [file.read_bytes() for file in files]
            whole = lines[0] + b"".join(text.partition(b"\n")[2] for text in lines[1:])
            (months / "search" / f"{part.name.partition('=')[2]}.csv").write_bytes(whole)
        shutil.rmtree(months / "by")
    (months / "nibbet.toml").write_text(SETTINGS.format(files="search/*.csv"))
    nibbet = str(Path(sys.executable).parent / "nibbet")
    last = sorted((months / "search").glob("*.csv"))[-1]
    aside = months / last.name
    last.rename(aside)
    shutil.rmtree(months / ".nibbet", ignore_errors=True)
    timed(nibbet, "load", "-q", cwd=months)
    aside.rename(last)
    more, _ = timed(nibbet, "load", "-q", cwd=months)
    full, _ = timed(nibbet, "load", "-q", "--fresh", cwd=months)
    print(f"  one month more {more:.1f} s, all {full:.1f} s: {more / full:.2f}")


def main() -> None:
    """Write, time, print."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folder", type=Path)
    parser.add_argument("millions", type=float, nargs="*", default=[1.0, 10.0])
    parser.add_argument("--parquet", action="store_true", help="write Parquet parts instead of one CSV file")
    parser.add_argument("--pandas", action="store_true", help="time the pandas script too")
    parser.add_argument("--append", action="store_true", help="time a month more instead")
    given = parser.parse_args()
    taken = {}
    for millions in given.millions:
        folder = given.folder / f"{millions:g}m{'-parquet' if given.parquet else ''}"
        files = write(folder, millions, parquet=given.parquet)
        size = sum(path.stat().st_size for path in folder.glob(files)) / 1e9
        print(f"{millions:g} million rows, {size:.2f} GB", flush=True)
        if given.append:
            append(folder, files)
        else:
            taken[millions] = measure(folder, files, with_pandas=given.pandas)
    if len(taken) > 1:
        (few, short), *_, (many, long) = sorted(taken.items())
        for name in ("load", "whole run"):
            print(f"{name} grows with exponent {math.log(long[name] / short[name]) / math.log(many / few):.2f}")


if __name__ == "__main__":
    main()
