"""Repairs: against the demo's hidden truth, and each kind on a small site."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.core.repairs import out_of_index

HOME = "https://tarnbrook.example/"


def test_each_fault_of_a_small_site_is_named() -> None:
    rng = np.random.default_rng(1)
    days = pd.date_range("2025-07-01", "2026-10-31")
    pairs = {
        "/guide/kayak/": "kayak guide",
        "/guide/": "kayak guide",
        "/closed/": "closed lake",
        "/unknown/": "old lore",
        "/gone/": "gone",
        "/deep/": "deep",
    }
    search = pd.DataFrame([(d, p, q) for d in days for p, q in pairs.items()], columns=["date", "page", "query"])
    search["impressions"] = rng.poisson(search["page"].map({"/guide/": 60, "/guide/kayak/": 12}).fillna(20))
    search["clicks"] = rng.binomial(search["impressions"], 0.1)
    search["position"] = 4.0
    crawl = pd.DataFrame(
        [
            ("/", 200, "", "Tarnbrook", 9, 0, "indexed"),
            ("/guide/", 200, "", "Guides", 9, 1, "indexed"),
            ("/guide/kayak/", 200, "", "Kayak guide", 9, 2, "indexed"),
            ("/closed/", 200, "", "Closed lake", 9, 2, "indexed"),
            ("/gone/", 404, "", "", 9, 2, ""),
            ("/deep/", 200, "", "Deep", 1, 7, "found, not indexed"),
            ("/a/", 301, "/b/", "", 1, 2, ""),
            ("/b/", 301, "/a/", "", 1, 2, ""),
            ("/lonely/", 200, "", "Lonely", 0, 3, "indexed"),
        ],
        columns=["page", "status", "redirect_to", "title", "inlinks", "depth", "index_state"],
    )
    links = pd.DataFrame({"source": ["/", "/guide/"], "target": ["/gone/", "/gone/"], "anchor": "more"})
    backlinks = pd.DataFrame({"from_url": ["https://paddlers.example/1"], "page": ["/lonely/"]})
    sitemap = pd.DataFrame({"page": ["/gone/", "/guide/"]})
    robots = pd.DataFrame({"agent": ["*"], "rule": ["disallow"], "pattern": ["/closed/"]})
    editorial = pd.DataFrame({"page": ["/guide/kayak/"], "target_query": ["kayak guide"]})
    site = nibbet.Site(
        home=HOME, search=search, crawl=crawl, links=links, backlinks=backlinks, sitemap=sitemap, robots=robots, editorial=editorial
    )
    found = site.repairs()
    said = set(zip(found["page"].str.removeprefix(HOME.rstrip("/")), found["repair"], strict=True))
    for wanted in (
        ("/gone/", "restore"), ("/gone/", "broken_link"), ("/gone/", "sitemap"), ("/closed/", "robots"), ("/deep/", "deep"), ("/deep/", "not_indexed"),
        ("/a/", "loop"), ("/b/", "loop"), ("/lonely/", "orphan"), ("/lonely/", "unseen"), ("/unknown/", "unlisted"), ("/guide/kayak/", "theme"),
    ):  # fmt: skip
        assert wanted in said, f"{wanted} not in {sorted(said)}"
    assert not [repair for page, repair in said if page in ("/", "/guide/")]
    site.close()


@pytest.mark.parametrize(("state", "out"), [
    ("Crawled, not indexed", True), ("Indexed", False), ("false", True), ("true", False), ("Excluded by a tag", True), ("In the index", False), ("Explorée, actuellement non indexée", True),
    ("Page indexée", False), ("Nicht im Index", True), ("Im Index", False), ("No indexada", True), ("Indexada", False), ("Esclusa", True), ("Indicizzata", False), ("Niet geïndexeerd", True),
    ("Geïndexeerd", False), ("Inte indexerad", True), ("Não indexada", True), ("Niezindeksowana", True), ("未登録", True), ("登録済み", False), ("unindexed", True), ("", False),
])  # fmt: skip
def test_index_states_are_read_in_any_language(state: str, out: bool) -> None:
    assert out_of_index(pd.Series([state, None])).tolist() == [out, False]
