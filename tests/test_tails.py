"""Every page is listed far down for much that it is not about: no verdict, gain or cause rests on that."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.core.curve import general_shape, places_tell
from nibbet.core.openings import stray_shares
from nibbet.core.split import ASSUMPTION

HOME, DAYS = "https://marl.example", pd.date_range("2025-07-01", "2026-10-31")
NAMES = "wedging centring pulling trimming throwing slabs coils pinching handles casting moulds sprigs sgraffito mishima trailing marbling burnishing raku saggar soda cones kilns shelves reclaim".split()  # fmt: skip
MORE = "forum pdf video chart history cheap vintage template australia machine diy kit book course".split()
FELL, DULL, ASTRAY = NAMES[2:5], NAMES[6:8], NAMES[10:12]
TWINS = [("/guides/slip-recipes/", "slip recipes"), ("/journal/recipes-for-slip/", "recipes for slip")]


def page_of(name: str) -> str:
    return f"{HOME}/guides/{name}/"


def rows(page: str, query: str, demand: float, place: np.ndarray, rng: np.random.Generator, pull: float = 1.0) -> pd.DataFrame:
    """Daily rows of one page and query: impressions at a wandering position, and clicks by a power law of it."""
    shown = rng.poisson(demand, len(DAYS))
    position = np.maximum(place * np.exp(rng.normal(0, 0.1, len(DAYS))), 1.0)
    clicks = rng.binomial(shown, np.clip(pull * 0.28 / position, 0, 0.9))
    table = pd.DataFrame({"date": DAYS, "page": page, "query": query, "clicks": clicks, "impressions": shown, "position": position.round(1)})
    return table[table["impressions"] > 0]


def site(seed: int = 1) -> tuple[pd.DataFrame, pd.DataFrame]:
    """The searches of 26 guides, of which some fell, some have a dull title, some draw what they do not answer, and two are one; their tail."""
    rng = np.random.default_rng(seed)
    near, deep, before = [], [], pd.Series(DAYS < "2026-06-20").to_numpy()
    for name in NAMES:
        place = np.full(len(DAYS), rng.uniform(1.5, 3.5))
        place = np.where(before, 1.7, 6.0) if name in FELL else place
        pull = 0.22 if name in DULL else 1.0
        for query, part in ((name, 1.0), (f"{name} pottery", 0.5), (f"how to do {name}", 0.3)):
            near.append(rows(page_of(name), query, 22 * part, place, rng, pull))
        if name in ASTRAY:
            near.append(rows(page_of(name), f"studio {['rent', 'heating'][ASTRAY.index(name)]} cost", 40, np.full(len(DAYS), 6.0), rng, 0.1))
    turn = np.repeat(rng.random(len(DAYS) // 9 + 1) > 0.5, 9)[: len(DAYS)]
    for first, (page, _) in zip((turn, ~turn), TWINS, strict=True):
        for query in ("slip recipes", "recipes for slip", "slip recipes pottery", "best slip recipes"):
            near.append(rows(HOME + page, query, 20, np.where(first, 4.0, 9.0), rng))
    for page in (*map(page_of, NAMES), *(HOME + page for page, _ in TWINS)):
        subject = page.rstrip("/").rsplit("/", 1)[-1].replace("-", " ")
        for word in rng.choice(MORE, 12, replace=False):
            deep.append(rows(page, f"{subject} {word}", rng.lognormal(1.0, 0.5), np.full(len(DAYS), rng.uniform(22, 60)), rng, 0.0))
    return pd.concat(near), pd.concat(deep)


def crawl() -> pd.DataFrame:
    pages = [(page_of(name), f"{name.capitalize()}: a guide") for name in NAMES] + [(HOME + page, title.capitalize()) for page, title in TWINS]
    return pd.DataFrame(pages, columns=["page", "title"]).assign(status=200, published="2022-03-01", words=900)


@pytest.fixture(scope="module")
def searched() -> tuple[pd.DataFrame, pd.DataFrame]:
    return site()


def test_a_long_tail_changes_no_verdict(searched: tuple[pd.DataFrame, pd.DataFrame]) -> None:
    near, deep = searched
    said = []
    for table in (near, pd.concat([near, deep])):
        with nibbet.Site(home=HOME, search=table, crawl=crawl()) as one:
            pages, openings = one.pages().set_index("page"), one.openings()
        said.append(pages["verdict"].fillna("") + " " + pages["cause"].fillna(""))
    alone, with_tail = said
    fallen = {page_of(name) for name in FELL}
    assert fallen <= set(alone.index[alone == "refresh decay"])
    assert set(alone.index[alone == "expand strays"]) == {page_of(name) for name in ASTRAY}
    assert (alone == "consolidate duplicate").sum() == 1
    assert with_tail.eq(alone).mean() >= 0.96, with_tail[with_tail.ne(alone)].to_dict()
    strays = openings[openings["kind"] == "stray"]
    assert set(strays["query"]) == {"studio rent cost", "studio heating cost"}, "a query far down is no click within reach"


def test_mean_positions_of_pages_with_a_tail_tell_neither_rank_nor_titles(searched: tuple[pd.DataFrame, pd.DataFrame]) -> None:
    both = pd.concat(searched)
    both = both.assign(placed=both["position"] * both["impressions"])
    table = both.groupby(["date", "page"], as_index=False)[["clicks", "impressions", "placed"]].sum()
    table["position"] = table.pop("placed") / table["impressions"]
    with nibbet.Site(home=HOME, search=table, crawl=crawl()) as one:
        pages, changes = one.pages().set_index("page"), one.compare(by="page").set_index("key")
        notes = {note["code"]: note["text"] for note in one.account["notes"]}
    fallen = [page_of(name) for name in FELL]
    assert set(pages.index[pages["verdict"] == "refresh"]) == set(fallen)
    assert pages.loc[fallen, "because"].str.endswith("so rank and CTR cannot be told apart.").all()
    assert changes.loc[fallen, "why"].eq("untold").all()
    assert changes[["rank", "pull"]].abs().to_numpy().max() == 0
    assert notes["mixed_positions"].endswith("Export queries by page too.")


def test_positions_say_nothing_where_clicks_are_more_than_they_can_bring() -> None:
    places, shown = np.array([2.0, 12.0, 25.0, 40.0]), np.full(4, 40_000.0)
    assert places_tell(shown * general_shape(places) * 2, shown, places), "twice the usual is a site that is well chosen"
    assert not places_tell(shown * general_shape(places) * np.array([1, 4, 4, 4]), shown, places)
    assert places_tell(np.array([5000.0, 0, 0, 30]), np.array([4e4, 0, 0, 100]), places), "few clicks may be chance"


def test_searches_far_down_are_between_what_people_and_programs_see() -> None:
    places, shown = np.array([5.0, 20.0, 45.0, np.nan]), np.full(4, 100.0)
    searches, sure = ASSUMPTION.searches(shown, places), ASSUMPTION.certainty(places)
    people = shown / ASSUMPTION.share(places)
    assert searches[[0, 1, 3]] == pytest.approx(people[[0, 1, 3]])
    assert sure[[0, 1, 3]] == pytest.approx(1.0)
    assert people[1] < searches[2] < people[2]
    assert searches[2] / sure[2] == pytest.approx(people[2])
    assert searches[2] * sure[2] == pytest.approx(people[1]), "if all are programs, there are no more searchers than on the second page"


@pytest.mark.parametrize("by", ["clicks", "day"])
def test_rows_selected_by_clicks_tell_no_cause(by: str, searched: tuple[pd.DataFrame, pd.DataFrame]) -> None:
    every = pd.concat(searched)
    table = every[every["clicks"] > 0]
    if by == "day":
        table = every.sort_values("clicks", ascending=False, kind="stable").groupby("date").head(50)
    whole = every.groupby(["date", "page"], as_index=False)[["clicks", "impressions"]].sum()
    with nibbet.Site(home=HOME, search=[table, whole], crawl=crawl()) as one:
        pages, site_change = one.pages().set_index("page"), one.compare(by="site").set_index("measure").loc["clicks"]
        note = next(note["text"] for note in one.account["notes"] if note["code"] == "selected_rows")
    fallen = [page_of(name) for name in FELL]
    assert pages.loc[fallen, "cause"].eq("decay").all()
    assert pages.loc[fallen, "because"].str.endswith("so demand, rank and CTR cannot be told apart.").all()
    assert site_change[["demand", "rank", "pull"]].abs().max() == 0
    assert note.startswith("No row of queries is without clicks" if by == "clicks" else f"{len(DAYS)} of {len(DAYS)} days have exactly 50")


def test_a_list_that_ends_says_nothing_of_what_it_lacks(searched: tuple[pd.DataFrame, pd.DataFrame], tmp_path: Path) -> None:
    every, sold = pd.concat(searched), {}
    for period in (("2025-08-03", "2025-10-31"), ("2026-08-03", "2026-10-31")):
        inside = every[every["date"].between(*period)]
        inside = inside.assign(placed=inside["position"] * inside["impressions"])
        for name, keys, most in (("pages", ["page"], 24), ("queries", ["page", "query"], 999)):
            sums = inside.groupby(keys, as_index=False)[["clicks", "impressions", "placed"]].sum()
            sums["position"] = sums.pop("placed") / sums["impressions"]
            sums.nlargest(most, "clicks").to_csv(tmp_path / f"{name} {period[0]} {period[1]}.csv", index=False)
            sold[name, period[0]] = sums.set_index("page")["clicks"] if name == "pages" else sums
    crawl().to_csv(tmp_path / "crawl.csv", index=False)
    assert main(["init", str(tmp_path)]) == 0
    with nibbet.open_site(tmp_path) as one:
        pages = one.pages().set_index("page")
        note = next(note["text"] for note in one.account["notes"] if note["code"] == "cut_list")
    least = int(sold["pages", "2026-08-03"].nlargest(24).min())
    assert note.startswith(f"The list of pages of 2026-08-03..2026-10-31 ends at {least} clicks: what it lacks has fewer, not none.")
    assert pages["clicks"].to_dict() == sold["pages", "2026-08-03"].to_dict(), "the rows of queries have what the lists of pages lack"
    assert set(pages.index[pages["cause"] == "decay"]) == {page_of(name) for name in FELL}


def test_strays_that_every_page_has_extend_none() -> None:
    pages = range(40)
    pairs = pd.DataFrame({"page": pages, "position": 3.0, "impressions": 5000})
    topics = pd.DataFrame({"page": pages, "topic": [f"t{page}" for page in pages], "impressions": 400 + 10 * (np.arange(40) % 7), "position": 15.0})
    topics.loc[[3, 9], "impressions"] = [2500, 1800]
    result = stray_shares(topics, pairs)
    assert set(result.loc[result["stray_share"] > result["usual_share"], "page"]) == {3, 9}
    few = stray_shares(topics.iloc[[3, 9, 20]], pairs)
    assert (few["usual_share"] == 0).all(), "where most pages have none, every one says something"
