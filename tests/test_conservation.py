"""Total in = ledger + set aside, to the last click, counted here from the raw files by other means."""

from __future__ import annotations

import csv
import gzip
import json
from decimal import Decimal
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

import nibbet
from nibbet.core.join.address import Home, fold
from nibbet.demo import exports
from nibbet.demo.simulate import simulate

HOME = "https://tarnbrook.example/"


def _summed(paths: list[Path], columns: list[str], delimiter: str, skip: int = 0) -> dict[str, Decimal]:
    sums = dict.fromkeys(columns, Decimal(0))
    for path in paths:
        text = gzip.decompress(path.read_bytes()).decode() if path.suffix == ".gz" else path.read_text("utf-8-sig")
        for row in csv.DictReader(text.splitlines()[skip:], delimiter=delimiter):
            for column in columns:
                sums[column] += Decimal(row[column].replace(",", "."))
    return sums


def test_account_balances_and_equals_what_the_files_hold(ran: Path) -> None:
    account = json.loads((ran / "out" / "account.json").read_text("utf-8"))
    for one in account["sources"]:
        assert one["rows_read"] == one["rows_used"] + sum(gone["rows"] for gone in one["set_aside"])
        for name, value in one["measures"].items():
            gone = sum(Decimal(str(aside["measures"][name])) for aside in one["set_aside"])
            assert Decimal(str(value["read"])) == Decimal(str(value["ledger"])) + gone
            assert Decimal(str(value["set_aside"])) == gone
    by_pages, by_queries = (
        [one for one in account["sources"] if one["file"].startswith(f"search/{word}")] for word in ("pages", "queries")
    )
    held = _summed(sorted((ran / "search").glob("pages-*.gz")), ["Clicks", "Shown"], ",")
    assert sum(one["measures"]["clicks"]["read"] for one in by_pages) == held["Clicks"]
    assert sum(one["measures"]["impressions"]["read"] for one in by_pages) == held["Shown"]
    held = _summed(sorted((ran / "search").glob("queries-*.gz")), ["Klicks", "Einblendungen"], ";")
    assert sum(one["measures"]["clicks"]["read"] for one in by_queries) == held["Klicks"]
    assert sum(one["measures"]["clicks"]["ledger"] for one in by_queries) == 0, "query rows are detail of the page rows of the same days"
    visits = next(one for one in account["sources"] if one["kind"] == "landings")
    held = _summed([ran / "visits" / "landing-pages.csv"], ["Sitzungen", "Abschlüsse", "Umsatz"], ";", skip=3)
    for name, header in (("sessions", "Sitzungen"), ("conversions", "Abschlüsse"), ("revenue", "Umsatz")):
        assert Decimal(str(visits["measures"][name]["read"])) == held[header]


def test_pages_and_queries_add_up_to_the_days(ran: Path) -> None:
    site = nibbet.open_site(ran)
    pages, queries, days = site.pages(), site.queries(), site.days
    recent = days[site.windows.recent.holds(days["date"])]
    assert pages["clicks"].sum() == recent["clicks"].sum()
    assert pages["impressions"].sum() == recent["impressions"].sum()
    assert queries["impressions"].sum() == pages["impressions"].sum(), "named queries and withheld rows make the pages' totals"
    assert queries["clicks"].sum() == pages["clicks"].sum()
    shares = queries[queries["query"].notna()].groupby("query")["share_impressions"].sum()
    assert np.allclose(shares[shares > 0], 1.0)
    site.close()


def test_pages_of_any_one_source_survive() -> None:
    day = pd.Timestamp("2026-10-01")
    site = nibbet.Site(
        home=HOME,
        search=pd.DataFrame(
            {"date": [day], "page": ["/searched/"], "query": ["arrowbeck"], "clicks": [3], "impressions": [9], "position": [2.0]}
        ),
        landings=pd.DataFrame({"date": [day], "page": ["/visited/"], "channel": ["direct"], "sessions": [5]}),
        crawl=pd.DataFrame({"page": ["/crawled/"], "status": [200], "title": ["Crawled"]}),
    )
    pages = site.pages().set_index("page")
    assert set(pages.index) == {HOME + "searched/", HOME + "visited/", HOME + "crawled/"}
    assert pages.loc[HOME + "visited/", "sessions"] == 5
    assert pages.loc[HOME + "visited/", "clicks"] == 0
    site.close()


spelt = (
    st.tuples(
        st.sampled_from(
            [
                "https://tarnbrook.example",
                "http://www.tarnbrook.example",
                "HTTPS://TARNBROOK.example:443",
                "//tarnbrook.example",
                "",
                "https://elsewhere.example",
            ]
        ),
        st.sampled_from(["/rivers/elver", "/Rivers/Elver", "/kit/dry%2Dbag", "/kit/./dry-bag", "/über", "/index.html", ""]),
        st.sampled_from(["", "/", "?utm_source=x", "?b=2&a=1", "#top", "?page=2"]),
    )
    .map("".join)
    .filter(lambda text: text not in ("", "/"))
)


@settings(max_examples=10, deadline=None, phases=[Phase.explicit, Phase.reuse, Phase.generate])
@given(st.lists(st.tuples(spelt, st.integers(0, 10**6), st.integers(0, 10**6)), min_size=1, max_size=25))
@pytest.mark.slow
def test_no_spelling_loses_a_click(rows: list[tuple[str, int, int]]) -> None:
    frame = pd.DataFrame(rows, columns=["page", "clicks", "impressions"]).assign(date=pd.Timestamp("2026-10-01"), position=3.0)
    frame["impressions"] += 1
    ours = ~frame["page"].str.contains("elsewhere")
    site = nibbet.Site(home=HOME, search=frame)
    if not ours.any():
        with pytest.raises(nibbet.SourceError, match="No search row is left"):
            _ = site.account
        site.close()
        return
    entry = site.account["sources"][0]["measures"]["clicks"]
    assert entry["read"] == frame["clicks"].sum()
    assert entry["ledger"] == frame.loc[ours, "clicks"].sum() == site.pages()["clicks"].sum()
    site.close()


@given(st.lists(st.tuples(spelt, st.sampled_from(["search", "landings", "crawl"])), min_size=1, max_size=20))
@pytest.mark.slow
def test_folding_is_stable(rows: list[tuple[str, str]]) -> None:
    spellings = pd.DataFrame(rows, columns=["spelling", "source"])
    once = fold(spellings, Home(HOME))
    shuffled = fold(spellings.sample(frac=1.0, random_state=3), Home(HOME))
    pd.testing.assert_frame_equal(once, shuffled)
    assert set(once["spelling"]) == set(spellings["spelling"]), "every spelling met is listed"
    assert (once["reason"] != "").all()
    found = once["page"].dropna()
    if len(found):  # an address is its own address
        again = fold(pd.DataFrame({"spelling": found.unique(), "source": "search"}), Home(HOME))
        assert set(again["page"]) <= set(found)


@pytest.mark.slow
def test_a_demo_written_in_portions_is_the_same_world(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    sums = {}
    monkeypatch.setattr(exports, "simulate", lambda world: simulate(world, pages_at_once=30))
    for at_once in (1, 50):
        monkeypatch.setattr(exports, "BLOCKS_AT_ONCE", at_once)
        folder = tmp_path / str(at_once) / "site"
        folder.mkdir(parents=True)
        exports.write(folder, pages=60, seed=3)
        days = pd.concat([pd.read_csv(path) for path in sorted((folder / "search").glob("pages-*"))])
        visits = pd.read_csv(folder / "visits" / "landing-pages.csv", sep=";", skiprows=3)
        total, rows = visits.iloc[-1], visits.iloc[:-1]
        assert total["Sitzungen"] == rows["Sitzungen"].sum()
        real = rows[rows["Einstiegsseite"] != "(unbekannt)"]
        sums[at_once] = (days["Clicks"].sum(), days["Shown"].sum(), real["Sitzungen"].sum(), real["Abschlüsse"].sum())
    assert sums[1] == sums[50]
