"""Queries that are no searches count for their pages, and for nothing else."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.config import make_config
from nibbet.core.junk import JUNK, suspects

HOME = "https://stonemill.example/"
ODD = {
    "https://stonemill.example/stoves/": 0, "www.stonemill.example": 0, "othermill.example": 0, "ann.lee@mill.example": 1, "0151 496 0123": 1,
    "4006381333931": 1, "site:stonemill.example stove": 2, "stove -gas": 2, "intitle:stove manual": 2, "camp stove filetype:pdf": 2,
}  # fmt: skip
SOUND = [
    "501 jeans",
    "route 66",
    "2026",
    "anti-slip mat",
    "re:zero figure",
    "what is ph: 7",
    "stove 1-2 person",
    "e-bike -",
    "kocher für 2",
    "コンロ",
    "3.5 mm nail",
    "dr. martens",
]


def test_what_looks_like_no_search() -> None:
    found = suspects(pd.Series([*ODD, *SOUND]))
    assert found.tolist() == [*ODD.values(), *[-1] * len(SOUND)]
    ruled = suspects(pd.Series(["old jobs", "mill.example"]), (["jobs"], ["mill example"]))
    assert ruled.tolist() == [len(JUNK) - 1, -1]
    assert len(suspects(pd.Series([], dtype="str"))) == 0


@pytest.fixture
def tables() -> dict[str, pd.DataFrame]:
    rng = np.random.default_rng(4)
    queries = ["camp stove", "stove for two", *ODD]
    rows = [(day, "/stoves/", query) for day in pd.date_range("2025-11-01", "2026-10-31", freq="2D") for query in queries]
    search = pd.DataFrame(rows, columns=["date", "page", "query"])
    search["impressions"] = rng.poisson(30, len(search)) + 1
    search = search.assign(clicks=rng.binomial(search["impressions"], 0.05), position=np.where(search["query"].isin(ODD), 9.0, 3.0))
    crawl = pd.DataFrame(
        {"page": ["/stoves/"], "status": [200], "title": ["Camp stove for two"], "text": ["Part 4006381333931 fits. " * 9]}
    )
    return {"search": search, "crawl": crawl}


def test_they_count_for_their_page_alone(tables: dict[str, pd.DataFrame]) -> None:
    search = tables["search"]
    with nibbet.Site(home=HOME, **tables) as site:
        queries, page, openings = site.queries(), site.pages().iloc[0], site.openings()
        rising = site.rising(28)
    named = queries.dropna(subset=["query"]).set_index("query")
    junk = [query for query in ODD if query != "4006381333931"]
    assert named.loc[junk, "role"].isna().all()
    assert named.loc[junk, "junk"].eq([JUNK[ODD[query]] for query in junk]).all()
    rest = named.drop(index=junk)
    assert rest["role"].notna().all()
    assert rest["junk"].isna().all(), "the number of a part that the page names is a search"
    assert page["queries"] == len(rest)
    assert page["clicks_long"] == search["clicks"].sum(), "every click counts"
    assert not openings["query"].isin(junk).any()
    assert not rising["key"].isin(junk).any()


def test_settings_say_otherwise(tables: dict[str, pd.DataFrame]) -> None:
    config = make_config({"site": {"home": HOME}, "queries": {"junk": ["stove for two"], "kept": ["othermill example", "-gas"]}})
    with nibbet.Site(config=config, **tables) as site:
        junk = site.queries().set_index("query")["junk"]
    assert junk["stove for two"] == JUNK[-1], "though the page answers it"
    assert junk[["othermill.example", "stove -gas"]].isna().all()
