"""Draw sentences of verdicts, repairs and comparisons at random, and hold every figure in them against the files they were made from.

Usage: python benchmarks/sentences.py [--draw 300] [--first 820]

The figures are computed anew with pandas from the exports alone; of Nibbet's results only the spellings of addresses and the roles of queries
serve. Six worlds: four by the other hand, two of the demo.
"""

from __future__ import annotations

import argparse
import re
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

import numpy as np
import pandas as pd
from elsewhere import KINDS
from reasons import demo_world, other_world
from scipy.stats import nbinom

import nibbet

NOW, THEN, YEAR = (
    pd.date_range(*ends) for ends in (("2026-08-03", "2026-10-31"), ("2025-08-03", "2025-10-31"), ("2025-11-01", "2026-10-31"))
)
NUMBER = r"([\d,]+)"


@dataclass
class Files:
    """The exports of a site as an analyst reads them: search rows of pages and of queries, visits, links from outside, redirects."""

    pages: pd.DataFrame
    queries: pd.DataFrame
    visits: pd.DataFrame
    links: pd.Series
    moved: pd.Series = field(default_factory=lambda: pd.Series(dtype="str"))

    def before(self, page: str) -> float:
        """Clicks of the reference window, scaled to the recent one, of a page and the addresses that redirect to it."""
        ends = [page, *self.moved.index[self.moved == page]]
        return float(sum(self.of(one, THEN)["clicks"] for one in ends)) * self.scale

    def until(self, page: str) -> pd.Timestamp:
        """The last day on which a page was shown or visited."""
        rows, seen = self.pages[self.pages["page"] == page], self.visits[self.visits["page"] == page]
        days = [rows.loc[rows["impressions"] + rows["clicks"] > 0, "date"], seen.loc[seen["sessions"] > 0, "date"]]
        return max(one[one <= NOW[-1]].max() for one in days if len(one))

    def of(self, page: str, days: pd.DatetimeIndex) -> pd.Series:
        """Sums of a page over days: clicks, impressions, position."""
        return self._sums(self.pages, page, days)

    def asked(self, page: str, queries: set[str]) -> pd.Series:
        """Sums of a page over the recent window and these queries."""
        return self._sums(self.queries[self.queries["query"].isin(queries)], page, NOW)

    def places(self, page: str) -> list[float]:
        """Where the queries shown in both windows stood before and stand now, by the clicks they brought before."""
        mine = self.queries[self.queries["page"] == page].reset_index(drop=True)
        then, now = (
            mine[mine["date"].isin(days)]
            .assign(at=mine["position"] * mine["impressions"])
            .groupby("query")[["clicks", "impressions", "at"]]
            .sum()
            for days in (THEN, NOW)
        )
        both = then.add_suffix("_then").join(now.add_suffix("_now"), how="inner")
        weight = both["clicks_then"]
        return [float((weight * both[f"at_{one}"] / both[f"impressions_{one}"]).sum() / weight.sum()) for one in ("then", "now")]

    def seen(self, page: str, days: pd.DatetimeIndex, *, search: bool = False) -> pd.Series:
        """Sums of visits: sessions, engaged, conversions; only those from search where asked."""
        rows = self.visits[(self.visits["page"] == page) & self.visits["date"].isin(days)]
        rows = rows[rows["channel"].str.lower().str.contains("organi")] if search else rows
        sums: pd.Series = rows[["sessions", "engaged", "conversions"]].sum()
        return sums

    @staticmethod
    def _sums(rows: pd.DataFrame, page: str, days: pd.DatetimeIndex) -> pd.Series:
        rows = rows[(rows["page"] == page) & rows["date"].isin(days)]
        sums = rows[["clicks", "impressions"]].sum()
        place = (rows["position"] * rows["impressions"]).sum() / max(sums["impressions"], 1)
        return pd.Series({**sums, "position": place})

    @cached_property
    def scale(self) -> float:
        """What a reference sum is multiplied by to equal the recent window in length and mix of weekdays."""
        days = self.pages[self.pages["date"] <= NOW[-1]].groupby("date")["clicks"].sum()
        usual = days.groupby(pd.DatetimeIndex(days.index).day_of_week).mean()
        return float(usual.reindex(NOW.day_of_week).sum() / usual.reindex(THEN.day_of_week).sum())


def other_files(folder: Path, kind: str) -> Files:
    """Those by the other hand: addresses stand in them as they are."""
    one, home = KINDS[kind], f"https://{KINDS[kind].host}"
    names = {said: name for name, said in one.headers.items()}

    def read(file: str) -> pd.DataFrame:
        table = pd.read_csv(folder / file, sep=one.sep, decimal="," if one.sep == ";" else ".").rename(columns=names)
        return table.assign(date=pd.to_datetime(table["date"], dayfirst=one.flat)) if "date" in table else table

    visits = read("visits.csv.gz").rename(columns={"landing": "page"})
    links = read("backlinks.csv")["target"].value_counts()
    crawl = read("site-inventory.csv")
    moved = crawl.dropna(subset=["redirect"]).set_index("page")["redirect"] if "redirect" in crawl else pd.Series(dtype="str")
    return Files(read("search-pages.csv.gz"), read("search-queries.csv.gz"), visits.assign(page=home + visits["page"]), links, moved)


def demo_files(folder: Path, spellings: pd.DataFrame) -> Files:
    """Those of the demo; addresses through the spellings that Nibbet tells."""
    known = spellings.dropna(subset=["page"]).set_index("spelling")["page"]
    parts = [pd.read_csv(path) for path in sorted((folder / "search").glob("pages-*.csv.gz"))]
    pages = pd.concat(parts).set_axis(["date", "page", "device", "country", "clicks", "impressions", "position"], axis=1).drop_duplicates()
    parts = [pd.read_csv(path, sep=";", decimal=",") for path in sorted((folder / "search").glob("queries-*.csv.gz"))]
    queries = pd.concat(parts).set_axis(["date", "query", "page", "device", "country", "clicks", "impressions", "position"], axis=1)
    visits = pd.read_csv(folder / "visits" / "landing-pages.csv", sep=";", decimal=",", skiprows=3, encoding="utf-8-sig")
    visits = visits.set_axis(
        ["date", "page", "channel", "country", "source", "sessions", "engaged", "seconds", "conversions", "revenue"], axis=1
    )
    visits["date"] = pd.to_datetime(visits["date"], format="%d.%m.%Y", errors="coerce")
    pages["date"], queries["date"] = pd.to_datetime(pages["date"]), pd.to_datetime(queries["date"], format="%d.%m.%Y")
    queries["query"] = queries["query"].str.lower()
    tables = [table.assign(page=table["page"].map(known)) for table in (pages, queries, visits)]
    outside = pd.read_csv(folder / "backlinks.csv", sep="\t")["Linked page"].map(known).value_counts()
    return Files(*tables, outside)


@dataclass
class Told:
    """What was said of a site, and the roles of its queries."""

    home: str
    sentences: pd.DataFrame
    queries: pd.DataFrame
    openings: pd.DataFrame
    changes: pd.DataFrame

    def answered(self, page: str) -> set[str]:
        """Queries that a page answers as their owner."""
        q = self.queries
        return set(q.loc[(q["page"] == page) & (q["role"] == "owner") & (q["answer"] >= 0.5) & ~q["brand"], "query"])

    def out_of_line(self, page: str) -> set[str]:
        """Of the queries that a page answers, those chosen far less than all its others: under 1% likely by a negative binomial of spread 0.3."""
        q = self.queries
        rows = q[(q["page"] == page) & q["query"].isin(self.answered(page)) & (q["impressions"] > 0)]
        rest = rows[["clicks", "expected_clicks"]].sum() - rows[["clicks", "expected_clicks"]]
        mean = rows["expected_clicks"] * (rest["clicks"] + 1) / (rest["expected_clicks"] + 1)
        size = 1 / 0.3**2
        return set(rows.loc[nbinom.cdf(rows["clicks"], size, size / (size + mean)) < 0.01, "query"])

    def opened(self, page: str, kind: str) -> set[str]:
        """Queries of a page with an opening of a kind."""
        rows = self.openings
        return set(rows.loc[(rows["page"] == page) & (rows["kind"] == kind), "query"])


Pair = tuple[float, float]


def whole(text: str) -> float:
    """1234 for 1,234."""
    return float(text.replace(",", ""))


def _clicks(page: str, text: str, files: Files, told: Told) -> Iterator[Pair]:
    if found := re.match(rf"{NUMBER} clicks?, {NUMBER} a year earlier", text):
        yield whole(found[1]), files.of(page, NOW)["clicks"]
        yield whole(found[2]), files.before(page) if "old address" in text else files.of(page, THEN)["clicks"] * files.scale
    if found := re.search(rf"Clicks fell from {NUMBER} to {NUMBER}", text):
        yield whole(found[1]), files.of(page, THEN)["clicks"] * files.scale
        yield whole(found[2]), files.of(page, NOW)["clicks"]
    if found := re.search(rf"it sells: {NUMBER} conversions?", text):
        yield whole(found[1]), files.seen(page, YEAR)["conversions"]
    if found := re.search(rf"{NUMBER} backlinks?", text):
        yield whole(found[1]), float(files.links.get(page, 0))


def _dead(page: str, text: str, files: Files, told: Told) -> Iterator[Pair]:
    if found := re.match(rf"{NUMBER} clicks?, {NUMBER} impressions?, {NUMBER} sessions?, no conversion", text):
        sums, seen = files.of(page, YEAR), files.seen(page, YEAR)
        yield from zip(map(whole, found.groups()), (sums["clicks"], sums["impressions"], seen["sessions"]), strict=True)
        yield 0.0, seen["conversions"]


def _parts(page: str, text: str, files: Files, told: Told) -> Iterator[Pair]:
    rows = told.changes[told.changes["key"] == page]
    if rows.empty:  # an address that is no page
        return
    row = rows.iloc[0]
    if found := re.match(rf"(Rank|Pull) cost {NUMBER} clicks", text):
        yield whole(found[2]), -row[found[1].lower()]
        yield row["demand"] + row["rank"] + row["pull"] + row["access"] + row["untold"], row["change"]
    if found := re.search(r"position (\d+(?:\.\d)?) to (\d+(?:\.\d)?)", text):
        yield from zip(map(float, found.groups()), files.places(page), strict=True)
    if found := re.search(r"at position (\d+(?:\.\d)?), about as before", text):
        yield float(found[1]), files.places(page)[1]
    for name, way, clicks in re.findall(rf"(rank|pull|demand) (cost|gave) {NUMBER}", text):
        yield whole(clicks) * (-1 if way == "cost" else 1), row[name]


def _reach(page: str, text: str, files: Files, told: Told) -> Iterator[Pair]:
    if found := re.match(rf"Its mean position is (\d+(?:\.\d)?) for {NUMBER} quer.*?: {NUMBER} impressions?, {NUMBER} clicks?", text):
        own, climbing = files.asked(page, told.answered(page)), told.opened(page, "climb")
        yield float(found[1]), own["position"]
        yield whole(found[2]), len(climbing)
        yield whole(found[3]), files.asked(page, climbing)["impressions"]
        yield whole(found[4]), own["clicks"]
    if found := re.match(rf"Its CTR is (\d+(?:\.\d)?)% at position (\d+(?:\.\d)?), .*?: {NUMBER} clicks", text):
        own = files.asked(page, told.answered(page) - told.out_of_line(page))
        yield float(found[1]), 100 * own["clicks"] / own["impressions"]
        yield float(found[2]), own["position"]
        yield whole(found[3]), own["clicks"]


def _visits(page: str, text: str, files: Files, told: Told) -> Iterator[Pair]:
    if found := re.match(rf"{NUMBER}% of {NUMBER} sessions? from search were engaged", text):
        seen = files.seen(page, YEAR, search=True)
        yield whole(found[1]), 100 * seen["engaged"] / seen["sessions"]
        yield whole(found[2]), seen["sessions"]
    if found := re.search(rf"it is visited: {NUMBER} sessions? from all channels", text):
        yield whole(found[1]), files.seen(page, YEAR)["sessions"]


def _strays(page: str, text: str, files: Files, told: Told) -> Iterator[Pair]:
    if found := re.match(rf'It has {NUMBER} impressions? at position (\d+(?:\.\d)?) for {NUMBER} quer.*? on "(.*?)"', text):
        q = told.queries
        on = set(q.loc[(q["page"] == page) & (q["topic"] == found[4]), "query"]) & told.opened(page, "stray")
        drawn = files.asked(page, on)
        yield whole(found[1]), drawn["impressions"]
        yield float(found[2]), drawn["position"]
        yield whole(found[3]), len(on)


def _merges(page: str, text: str, files: Files, told: Told) -> Iterator[Pair]:
    if found := re.match(rf"It competes with (\S+) for the same searches: {NUMBER}% of the impressions of the smaller page", text):
        q, ends = told.queries, (page, told.home + found[1])
        answers = [set(q.loc[(q["page"] == one) & (q["answer"] >= 0.5) & ~q["brand"] & (q["impressions"] > 0), "query"]) for one in ends]
        both, shares = answers[0] & answers[1], []
        for one, own in zip(ends, answers, strict=True):
            shares.append(files.asked(one, both)["impressions"] / files.asked(one, own)["impressions"])
        yield whole(found[2]), 100 * max(shares)


def _repairs(page: str, text: str, files: Files, told: Told) -> Iterator[Pair]:
    found = re.search(rf": {NUMBER} clicks?, {NUMBER} impressions?", text)
    if found and not text.startswith(("It stands", "Its CTR")):
        sums = files.of(page, YEAR)
        yield whole(found[1]), sums["clicks"]
        yield whole(found[2]), sums["impressions"]
    if found := re.search(rf"{NUMBER} clicks a month less than a year earlier", text):
        lost = files.of(page, THEN)["clicks"] * files.scale - files.of(page, NOW)["clicks"]
        yield whole(found[1]), lost * 30.4 / 90
    if found := re.search(rf", {NUMBER} conversions?", text):
        yield whole(found[1]), files.seen(page, YEAR)["conversions"]
    if found := re.search(r"was used until (\d{4})-(\d\d)-(\d\d)", text):
        yield whole("".join(found.groups())), whole(f"{files.until(page):%Y%m%d}")


def _compared(page: str, text: str, files: Files, told: Told) -> Iterator[Pair]:
    if found := re.match(rf"compare {NUMBER} {NUMBER} ([-+][\d,]+)$", text):
        now, then = files.of(page, NOW)["clicks"], files.of(page, THEN)["clicks"] * files.scale
        yield from zip(map(whole, found.groups()), (now, then, now - then), strict=True)


CHECKS: list[Callable[[str, str, Files, Told], Iterator[Pair]]] = [
    _clicks, _dead, _parts, _reach, _visits, _strays, _merges, _repairs, _compared
]  # fmt: skip


def tell(folder: Path) -> tuple[Told, pd.DataFrame]:
    """All sentences of a site by page, and the spellings of its addresses."""
    with nibbet.open_site(folder) as site:
        pages, changes = site.pages(), site.compare(by="page")
        rows = [pages[pages["because"].notna()][["page", "because"]], site.repairs()[["page", "because"]]]
        figures = [changes[name].round().map("{:,.0f}".format) for name in ("recent", "reference")]
        compared = "compare " + figures[0] + " " + figures[1] + " " + changes["change"].round().map("{:+,.0f}".format)
        rows.append(pd.DataFrame({"page": changes["key"], "because": compared}))
        queries = site.queries().dropna(subset=["query", "page"])
        home = str(site.config.site.home).rstrip("/")
        return Told(home, pd.concat(rows, ignore_index=True), queries, site.openings(), changes), site.addresses


def agrees(said: float, true: float) -> bool:
    """Whether a figure is the rounded truth; a share may round either way at a half."""
    return abs(said - true) <= max(0.51 if float(said).is_integer() else 0.0501, 1e-6 * abs(true)) + 1e-9


def main() -> None:
    """Print how many sentences were drawn, how many figures they hold, and every one that disagrees."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--draw", type=int, default=300)
    parser.add_argument("--first", type=int, default=820)
    parser.add_argument("worlds", nargs="*", default=["guides:usual", "shop:usual", "guides:hard", "shop:hard", "demo:easy", "demo:hard"])
    given = parser.parse_args()
    worlds = [name.split(":") for name in given.worlds]
    drawn = figures = wrong = 0
    for number, (kind, level) in enumerate(worlds):
        with tempfile.TemporaryDirectory() as root:
            folder = Path(root) / "site"
            seed = given.first + number
            _ = demo_world(folder, level, seed, 365) if kind == "demo" else other_world(folder, kind, level, seed, 365)
            told, spellings = tell(folder)
            files = demo_files(folder, spellings) if kind == "demo" else other_files(folder, kind)
        rows = told.sentences.sample(frac=1.0, random_state=np.random.default_rng(seed))
        wanted = given.draw // len(worlds)
        for page, text in zip(rows["page"], rows["because"], strict=True):
            pairs = [pair for check in CHECKS for pair in check(page, text, files, told)]
            if not pairs:
                continue
            drawn, figures, wanted = drawn + 1, figures + len(pairs), wanted - 1
            bad = [(said, round(float(true), 3)) for said, true in pairs if not agrees(said, true)]
            wrong += len(bad)
            if bad:
                print(f"{kind} {level} {page}: {text}\n    {bad}", flush=True)
            if not wanted:
                break
        print(f"{kind} {level}: {drawn} sentences, {figures} figures, {wrong} disagree so far", flush=True)


if __name__ == "__main__":
    main()
