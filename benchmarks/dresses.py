"""Changes of dress that should change no verdict: menus on every page, folders in front, files that are no pages, tagged addresses, coarser rows.

Usage: python benchmarks/dresses.py [--seed 77] [DRESS ...]

A site by the other hand is written once; each dress changes its exports as other sites and other programs would have written them. Printed
are the pages whose verdicts differ. Those of `weekly` and `monthly` may, for such rows tell less.
"""

from __future__ import annotations

import argparse
import shutil
import tempfile
import zlib
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
from reasons import other_world

import nibbet

Files = dict[str, pd.DataFrame]
CRAWL, PAGES, QUERIES, VISITS, LINKS = (
    "site-inventory.csv",
    "search-pages.csv.gz",
    "search-queries.csv.gz",
    "visits.csv.gz",
    "internal-links.csv",
)
ADDRESS = r"^(https?://[^/]+)?/"


def _addresses(files: Files, change: Callable[[pd.Series], pd.Series]) -> Files:
    """The files with every address changed."""
    for table in files.values():
        for name in table:
            texts = table[name].dropna().astype("str")
            if not pd.api.types.is_numeric_dtype(table[name]) and len(texts) and texts.head(200).str.match(r"https?://|/").mean() > 0.9:
                table[name] = change(table[name].astype("str")).where(table[name].notna())
    return files


def _coarser(files: Files, period: Callable[[pd.Series], pd.Series]) -> Files:
    """The search rows summed over periods."""
    for name in (PAGES, QUERIES):
        rows = files[name].assign(Day=period(files[name]["Day"]), at=files[name]["Average position"] * files[name]["Impressions"])
        keys = [one for one in files[name] if one not in ("Clicks", "Impressions", "Average position")]
        sums = rows.groupby(keys, as_index=False)[["Clicks", "Impressions", "at"]].sum()
        files[name] = sums.assign(**{"Average position": (sums["at"] / sums["Impressions"]).round(2)}).drop(columns="at")
    return files


def _more_rows(table: pd.DataFrame, paths: list[str]) -> pd.DataFrame:
    home = table["Page address"].iloc[0].rstrip("/")
    more = pd.DataFrame({"Page address": [home + path for path in paths], "Status code": 200})
    return pd.concat([table, more], ignore_index=True)


def menus(files: Files) -> Files:
    """80 more links on every page, also in the table of links."""
    files[CRAWL] = files[CRAWL].assign(**{"Links out": files[CRAWL]["Links out"] + 80, "Links in": files[CRAWL]["Links in"] + 300})
    source, target = files[LINKS].columns[:2]
    often = files[LINKS][target].value_counts().index[:60]
    every = pd.MultiIndex.from_product([files[LINKS][source].unique(), often], names=[source, target]).to_frame(index=False)
    files[LINKS] = pd.concat([files[LINKS], every], ignore_index=True)
    return files


def prefix(files: Files) -> Files:
    """All pages below /en/."""
    return _addresses(files, lambda text: text.str.replace(ADDRESS, lambda found: (found[1] or "") + "/en/", regex=True))


def dated(files: Files) -> Files:
    """Each path below a year and a month."""

    def below(found: object) -> str:
        start, path = found[1] or "", found[2]  # type: ignore[index]
        number = zlib.crc32(path.strip("/").encode())
        return f"{start}/{2019 + number % 6}/{number % 12 + 1:02d}/{path}"

    return _addresses(files, lambda text: text.str.replace(r"^(https?://[^/]+)?/([^?]+)$", below, regex=True))


def hosts(files: Files) -> Files:
    """Scheme, host and port written another way."""
    return _addresses(files, lambda text: text.str.replace(r"^https://", "HTTP://WWW.", regex=True))


def assets(files: Files) -> Files:
    """Images and scripts among the pages of the crawl."""
    return files | {CRAWL: _more_rows(files[CRAWL], [f"/files/{n}.jpg" for n in range(600)] + [f"/files/{n}.js?v=2" for n in range(300)])}


def titles(files: Files) -> Files:
    """A motto behind every title."""
    return files | {
        CRAWL: files[CRAWL].assign(Title=files[CRAWL]["Title"].fillna("") + " – practical advice for house and garden since 1998")
    }


def words(files: Files) -> Files:
    """Statuses with their meaning."""
    meanings = {200: "200 OK", 301: "301 Moved Permanently", 404: "404 Not Found"}
    return files | {CRAWL: files[CRAWL].assign(**{"Status code": files[CRAWL]["Status code"].map(meanings)})}


def tagged(files: Files) -> Files:
    """Parameters of campaigns behind a third of the visited addresses."""
    chosen = np.random.default_rng(3).random(len(files[VISITS])) < 0.3
    address = files[VISITS]["Landing page"]
    return files | {
        VISITS: files[VISITS].assign(**{"Landing page": address.where(~chosen, address + "?utm_source=mail&utm_medium=letter")})
    }


def devices(files: Files) -> Files:
    """Each search row as one of mobile and one of desktop."""
    rng = np.random.default_rng(5)
    for name in (PAGES, QUERIES):
        rows = files[name]
        clicks = rng.binomial(rows["Clicks"], 0.6)
        shown = np.clip(rng.binomial(rows["Impressions"], 0.6), clicks, rows["Impressions"] - (rows["Clicks"] - clicks))
        one = rows.assign(Clicks=clicks, Impressions=shown, Device="mobile")
        other = rows.assign(Clicks=rows["Clicks"] - clicks, Impressions=rows["Impressions"] - shown, Device="desktop")
        both = pd.concat([one, other], ignore_index=True)
        files[name] = both[both["Impressions"] > 0]
    return files


def weekly(files: Files) -> Files:
    """Search rows by week."""
    return _coarser(files, lambda day: pd.to_datetime(day).dt.to_period("W").dt.start_time.dt.strftime("%Y-%m-%d"))


def monthly(files: Files) -> Files:
    """Search rows by month."""
    return _coarser(files, lambda day: day.str[:7])


DRESSES = [menus, prefix, dated, hosts, assets, titles, words, tagged, devices, weekly, monthly]


def verdicts(folder: Path) -> pd.Series:
    """The verdict and cause of each page, by its path without what a dress puts in front."""
    with nibbet.open_site(folder) as site:
        pages = site.pages().dropna(subset=["verdict"])
    path = pages["page"].str.replace(r"^https?://[^/]+(?:/en(?=/)|/20\d\d/\d\d(?=/))?", "", regex=True)
    return (pages["verdict"] + " " + pages["cause"].fillna("")).set_axis(path)


def main() -> None:
    """Print for each dress how many verdicts differ, and which."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("dresses", nargs="*")
    parser.add_argument("--seed", type=int, default=77)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as root:
        plain, other = Path(root) / "plain", Path(root) / "other"
        other_world(plain, "guides", "usual", given.seed, 365)
        before = verdicts(plain)
        files = {name: pd.read_csv(plain / name) for name in (CRAWL, PAGES, QUERIES, VISITS, LINKS, "backlinks.csv")}
        print(f"{len(before)} pages: {before.value_counts().to_dict()}", flush=True)
        for dress in DRESSES:
            if given.dresses and dress.__name__ not in given.dresses:
                continue
            shutil.rmtree(other, ignore_errors=True)
            shutil.copytree(plain, other, ignore=shutil.ignore_patterns(".nibbet", "out"))
            for name, table in dress({name: table.copy() for name, table in files.items()}).items():
                table.to_csv(other / name, index=False)
            after = verdicts(other).reindex(before.index)
            differ = pd.DataFrame({"before": before, "after": after})[before != after]
            print(f"{dress.__name__}: {len(differ)} differ {differ.value_counts().to_dict()}", flush=True)


if __name__ == "__main__":
    main()
