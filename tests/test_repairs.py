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


def test_offers_that_end_are_let_go_and_a_lost_folder_is_not() -> None:
    days = pd.date_range("2025-07-01", "2026-10-31")
    ends = {f"/ad/flat-{n}": days[150 + 117 * n // 10] for n in range(29)} | {f"/guides/{name}": days[400] for name in "abcdefghijkl"}
    ends |= {"/ad/house": days[-1], "/ad/barn": days[-1], "/rent/": days[-1]}
    parts = [pd.DataFrame({"date": days[(days <= end) & (days > end - pd.Timedelta(days=60))], "page": page}) for page, end in ends.items()]
    search = pd.concat(parts).assign(query=lambda t: t["page"].str.split("/").str[-1] + " let", clicks=3, impressions=20, position=3.0)
    dead = {page for page, end in ends.items() if end < days[-1] and page != "/ad/flat-3"}
    rows = [(page, 410 if page in dead else 200, page.split("/")[-1] if page not in dead else "", 0) for page in ends]
    crawl = pd.DataFrame([*rows, ("/ad/flat-3", 301, "", 0)], columns=["page", "status", "title", "inlinks"])
    crawl = crawl.assign(redirect_to=np.where(crawl["status"] == 301, "/rent/", None)).drop_duplicates("page", keep="last")
    with nibbet.Site(home=HOME, search=search.reset_index(drop=True), crawl=crawl) as site:
        found, absent, topics = site.repairs(), site.absent(), site.topics()
    page = found["page"].str.removeprefix(HOME.rstrip("/"))
    assert set(page[found["repair"] == "restore"]) == {f"/guides/{name}" for name in "abcdefghijkl"}  # all at once: a fault
    assert set(page[(found["repair"] == "error") & page.str.startswith("/ad/")]) == {"/ad/flat-27", "/ad/flat-28"}, (
        "only those that people still come to"
    )
    assert not absent["page"].str.contains("/ad/").any()
    ended = topics[topics["because"].str.contains("until its time was over")]
    assert len(ended) > 5
    assert (ended["proposal"] == "none").all()
    assert found.loc[page == "/ad/flat-27", "because"].item().startswith("Answers 410, but was used until 2026-10-")


def test_a_page_at_two_spellings_is_led_to_one() -> None:
    days = pd.date_range("2026-07-01", "2026-10-31").strftime("%Y-%m-%d")
    shown = {"/guide/owl": 9, "/guide/owl/": 3, "/Guide/owl": 1, "/guide/elk": 4, "/guide/elk/": 2, "/shop/owl": 8}
    search = pd.DataFrame([(day, page, "owl care", clicks, 40, 3.0) for day in days for page, clicks in shown.items()],
                          columns=["date", "page", "query", "clicks", "impressions", "position"])  # fmt: skip
    titles = {"/guide/owl": "Owl", "/guide/owl/": "Owl", "/guide/elk": "Elk", "/guide/elk/": "All elks", "/shop/owl": "Owl"}
    crawl = pd.DataFrame([(page, 200, title) for page, title in titles.items()], columns=["page", "status", "title"])
    with nibbet.Site(home=HOME, search=search, crawl=crawl) as site:
        found = site.repairs()
    twins = found[found["repair"] == "duplicate"].assign(page=lambda t: t["page"].str.removeprefix(HOME.rstrip("/")))
    assert dict(zip(twins["page"], twins["target"], strict=True)) == {"/guide/owl/": HOME + "guide/owl", "/Guide/owl": HOME + "guide/owl"}
    assert "but for the slash at the end" in twins.set_index("page").loc["/guide/owl/", "because"]
    assert "but for letter case:" in twins.set_index("page").loc["/Guide/owl", "because"]
    assert not ((found["repair"] == "unlisted") & found["page"].str.contains("Guide")).any()
