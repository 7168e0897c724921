"""What gains, merges and topics must give whatever the site: nothing lost, nothing promised twice."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import sparse

import nibbet
from nibbet.core.briefs import Neighbours, make_brief
from nibbet.core.findings import stays
from nibbet.core.ideas import between, check_ideas
from nibbet.core.pull import chance_poor, quantile_of_chance, usual_pull
from nibbet.core.querymap import page_words
from nibbet.core.standing import Standing, learn_standing, with_withheld
from nibbet.core.thresholds import Thresholds
from nibbet.core.topics import Grouping, group_pairs, labels_of, topics_of
from nibbet.core.words import Lexicon
from nibbet.errors import NotFoundError, SourceError
from nibbet.sources.ideas import read_ideas


@pytest.fixture(scope="module")
def site(ran: Path) -> nibbet.Site:
    return nibbet.open_site(ran)


def test_every_impression_is_in_a_topic_or_aside(site: nibbet.Site) -> None:
    queries, topics, aside = site.queries(), site.topics(), site.topics_aside()
    named = queries.loc[queries["query"].notna(), "impressions"].sum()
    assert topics["impressions"].sum() + aside["impressions"].sum() == named
    per_query = queries.dropna(subset=["query"]).groupby("query")["topic"].nunique(dropna=False)
    assert (per_query == 1).all(), "a query is of one topic on every page"
    assert topics["topic"].is_unique
    assert set(queries["topic"].dropna()) <= set(topics["topic"])
    assert (topics["gain"].dropna() >= topics["gain_low"].dropna() - 1e-9).all()
    assert topics.loc[topics["proposal"] == "none", "gain"].fillna(0).lt(site.config.verdicts.min_gain).all()


def test_nothing_is_promised_twice(site: nibbet.Site) -> None:
    verdicts, groups, openings = site.verdicts().set_index("page"), site.groups(), site.openings()
    per_group = groups.drop_duplicates("group")["gain"].sum()
    leaving = groups.loc[~groups["survivor"].astype(bool), "page"]
    judged = verdicts.reindex(leaving)
    assert judged.loc[judged["verdict"] == "consolidate", "gain"].sum() == pytest.approx(per_group, rel=0.02)
    survivors = verdicts.reindex(groups.loc[groups["survivor"].astype(bool), "page"])
    assert set(survivors["verdict"]) <= {"keep", "refresh"}
    refreshed = survivors[survivors["verdict"] == "refresh"]
    alone = groups[groups["survivor"].astype(bool)].set_index("page")["survivor_rest"]
    decays = verdicts.loc[(verdicts["cause"] == "decay") & ~verdicts.index.isin(refreshed.index), "gain"]
    assert (refreshed["gain"] <= decays.max() * alone.reindex(refreshed.index) + 1e-6).all()
    pages, topics = site.pages().set_index("page"), site.topics()
    strays = openings[openings["kind"] == "stray"].assign(whole=lambda rows: rows["gain"] / (1 - rows["page"].map(pages["withheld_share"])))
    unseen = topics.loc[topics["impressions"] == 0, "gain"].fillna(0).sum()
    assert topics["gain"].sum() - unseen <= strays.groupby("query")["whole"].max().sum() + 1e-6
    expand = verdicts[verdicts["verdict"] == "expand"]
    assert expand["gain"].sum() <= topics.loc[topics["page"].isin(expand.index), "gain"].sum() + 1e-6, "a verdict is part of its topics"


def test_where_good_pages_stand_is_learnt_from_them() -> None:
    rng = np.random.default_rng(4)
    place = np.exp(rng.normal(np.log(2.4), 0.3, 500))
    pages = pd.DataFrame({"position_answered": place, "clicks_answered": rng.poisson(300, 500), "expected_answered": 300.0, "trend": None})
    pages = pages.assign(clicks_titled=pages["clicks_answered"], expected_titled=300.0, impressions_answered=2000.0)
    low = pages.head(60).assign(position_answered=12.0)  # pages that still have to climb tell nothing
    fallen = pages.head(60).assign(position_answered=5.0, trend="collapse")
    found = learn_standing(pd.concat([pages, low, fallen], ignore_index=True), below=5.5)
    assert found.place == pytest.approx(2.4, rel=0.05)
    assert found.spread == pytest.approx(0.3, abs=0.04)
    assert found.spread_below == pytest.approx(0.3, abs=0.08), "pages that stand anywhere widen nothing"
    even = np.exp(rng.uniform(np.log(1.6), np.log(7.5), 500))
    level = learn_standing(pages.assign(position_answered=even), below=5.0)
    assert level.places(np.array([50.0]), 0.9)[0] == pytest.approx(6.4, rel=0.15), "what is cut from good pages is not forgotten"
    assert level.places(np.array([50.0]), 0.1)[0] == pytest.approx(1.87, rel=0.1)
    assert learn_standing(pages.head(5), below=5.5).place == Standing().place, "a handful of pages tells nothing"
    assert found.tilt == pytest.approx(0.0, abs=0.05)
    steep = pages.assign(clicks_answered=rng.poisson(300 * (place / 2.4) ** 0.3))
    assert learn_standing(steep, below=5.5).tilt == pytest.approx(0.3, abs=0.06), "the curve falls faster than good pages' choice"


def test_a_poor_title_is_told_from_luck_and_kind_by_the_site_itself() -> None:
    rng = np.random.default_rng(6)
    poor = rng.random(3000) < 0.06
    pull = np.exp(rng.normal(0, 0.2, 3000)) * np.where(poor, 0.45 * np.exp(rng.normal(0, 0.2, 3000)), 1.0)
    usual = np.exp(rng.uniform(np.log(10), np.log(400), 3000))
    clicks = rng.poisson(usual * pull).astype(float)
    found = usual_pull(clicks, usual)
    assert found.poor == pytest.approx(0.06, abs=0.025)
    chance = chance_poor(clicks, usual, found.spread, found.poor)
    for low, high in ((0.1, 0.4), (0.4, 0.8), (0.8, 1.01)):
        these = (chance >= low) & (chance < high)
        assert poor[these].mean() == pytest.approx(chance[these].mean(), abs=0.15), "what is said to be so likely is so often true"


@given(st.floats(0.02, 1.0), st.floats(-20.0, 200.0), st.floats(0.5, 80.0))
@settings(max_examples=20, deadline=None)
def test_an_interval_of_a_gain_that_may_be_none_holds_as_often_as_it_says(chance: float, middle: float, spread: float) -> None:
    rng = np.random.default_rng(3)
    gains = np.where(rng.random(40_000) < chance, np.maximum(rng.normal(middle, spread, 40_000), 0.0), 0.0)
    low, high = (float(quantile_of_chance(end, *(np.array([one]) for one in (chance, middle, spread)))[0]) for end in (0.1, 0.9))
    assert (gains < low).mean() <= 0.11
    assert (gains > high).mean() <= 0.11
    assert (gains >= low).mean() == pytest.approx(0.9, abs=0.02) or low == 0
    assert (gains <= high).mean() == pytest.approx(0.9, abs=0.02) or high == 0


@given(st.lists(st.floats(0, 1), min_size=1, max_size=9))
@settings(max_examples=30, deadline=None)
def test_withheld_queries_count_at_most_five_times(shares: list[float]) -> None:
    factor = with_withheld(pd.Series(shares))
    assert factor.between(1, 5 + 1e-9).all()
    assert with_withheld(pd.Series([None], dtype=float)).iloc[0] == 1


def test_what_is_never_merged_away() -> None:
    pages = pd.DataFrame(
        [(False, 0, 3, 900, None), (True, 0, 3, 900, None), (False, 5, 3, 900, None), (False, 0, 99, 900, None), (False, 0, 3, 20, None), (False, 0, 3, 900, "support"), (False, 0, None, None, None)],
        columns=["protected", "children", "outlinks", "age_days", "purpose"],
    ).assign(only_way=None, main_way=None, in_list=False, gone=False)  # fmt: skip
    assert stays(pages, Thresholds(), 180).tolist() == [False, True, True, True, True, True, False]
    assert stays(pages.head(1).assign(in_list=True), Thresholds(), 180).all()
    ways = pages.iloc[[0] * 3].reset_index(drop=True).assign(only_way=[0, 1, 0], main_way=[2, 1, 3])
    assert stays(ways, Thresholds(), 180).tolist() == [False, True, True], "the only way to what earns, or one of two to three pages"


QUERIES = ["dry bag", "dry bags", "best dry bag", "paddle float", "paddle floats", "bag for paddle", "tarn brook shop", "77"]


def grouping(results: pd.DataFrame | None = None, most: int = 100) -> Grouping:
    page = [0, 0, 0, 1, 1, 2, 3, 3]
    pairs = pd.DataFrame({"page": page, "query": QUERIES, "role": "owner", "impressions": [90, 50, 40, 80, 30, 20, 10, 5]})
    demand = pd.DataFrame({"query": ["dry bag", "rope knots"], "demand": [300.0, 70.0]})
    return group_pairs(pairs, 4, demand, results, brand=["tarn brook"], aside=[], most=most, language="english")


def test_queries_of_demand_alone_are_grouped_and_the_rest_is_counted() -> None:
    found = grouping()
    topic = topics_of(pd.DataFrame({"query": QUERIES}), found.queries)
    assert set(topic[:3]) == {"dry bag"}, "the most wanted names it"
    assert topic[0] != topic[3]
    assert topic[6:].isna().all()
    asked = found.queries.set_index("query")
    assert asked.loc["rope knots", "topic"] == "rope knots"
    assert asked["aside"].dropna().to_dict() == {"tarn brook shop": "brand", "77": "no words"}
    few = grouping(most=2).queries.set_index("query")
    assert few["topic"].notna().sum() == 2
    assert few.loc["paddle floats", "aside"] == "rarer than the queries grouped"
    assert len(found.grouped) == found.pages.shape[0]


def test_labels_are_the_most_wanted_then_the_shortest() -> None:
    texts = pd.Series(["canoe routes", "canoe route", "paddle", "a paddle"])
    found = labels_of(texts, np.array([0, 0, 1, 1]), np.array([5.0, 5.0, 1.0, 9.0]))
    assert found.tolist() == ["canoe route", "canoe route", "a paddle", "a paddle"]


def test_ideas_and_pairs_of_queries_are_told_apart() -> None:
    known = grouping()
    topics = pd.DataFrame({"topic": list(dict.fromkeys(known.grouped["topic"]))})
    topics = topics.assign(
        label=topics["topic"], queries=1, volume=9, volume_kind="impressions", served="covered", page="/x/", position=2.0, proposal="none"
    )
    lexicon, pages = Lexicon("english"), pd.DataFrame({"title": ["Dry bag", "Rope splicing"], "path": ["/x/", "/splice/"]})
    ideas = pd.Series(["Dry  BAG", "dry bags best", "splicing rope", "cheap dry bag", "sourdough", None])
    found = check_ideas(ideas, known, topics, lexicon=lexicon, on_page=page_words(pages, lexicon), living=pages["path"])
    assert found["topic"].fillna("").tolist() == ["dry bag", "dry bag", "", "", "", ""]
    assert found["page"].fillna("").tolist() == ["/x/", "/x/", "/splice/", "", "", ""]
    assert found["likeness"].iloc[0] == 1
    assert found["likeness"].iloc[1] < 1
    assert found["advice"].str[:13].tolist() == ["would compete"] * 3 + ["nothing is kn"] * 3
    assert '"dry bag"' in found["advice"].iloc[3], "the nearest topic"

    def told(one: str, other: str, urls: list[tuple[str, str]]) -> str:
        results = pd.DataFrame(urls, columns=["query", "url"]) if urls else None
        return str(between(one, other, grouping(results), None, language="english")["answer"])

    same = [(query, f"https://a.example/{n}") for query in ("dry bag", "paddle float") for n in range(5)]
    apart = [(query, f"https://{n}.example/{query[:3]}") for query in ("dry bag", "best dry bag") for n in range(5)]
    assert told("dry bag", "best dry bag", []) == "one page"
    assert told("dry bag", "paddle float", []) == "two pages"
    assert told("dry bag", "paddle float", same) == "one page", "results overrule words"
    assert told("dry bag", "best dry bag", apart) == "two pages"
    with pytest.raises(NotFoundError, match="sourdough"):
        told("dry bag", "Sourdough", [])


def test_a_brief_names_questions_titles_links_and_what_to_leave() -> None:
    asked = grouping().grouped.assign(position=3.0)
    columns = ["topic", "label", "served", "page", "proposal"]
    rows = [("dry bag", "dry bag", "uncovered", "/kit/", "new page"), ("dry bag care", "dry bag care", "covered", "/care/", "none")]
    topics = pd.DataFrame(rows, columns=columns)
    pages = pd.DataFrame(
        {"page": ["/kit/", "/bags/", "/gone/", "/river/"], "title": ["Kit list", "Dry bag sizes", "Dry bag old", "River map"]}
    )
    pages = pages.assign(clicks=[5, 90, 99, 70], gone=[False, False, True, False], blocked=False)
    shots = [
        ("dry bag", "question", "Is it dry?"),
        ("best dry bag", "question", "Is it dry?"),
        ("dry bag", "result", "Dry bag volume chart"),
        ("river map", "question", "Where is the river?"),
        ("dry bag", "question", None),
    ]
    snapshots = pd.DataFrame(shots, columns=["query", "kind", "title"]).assign(url="https://bags.example/")
    neighbours = Neighbours(topics, pages.assign(leaves=False), "english")
    found = make_brief(topics.iloc[0], asked, snapshots, neighbours)
    assert found.links["page"].tolist() == ["/kit/", "/bags/"], "first the page that catches it, then the related; none that is gone"
    assert found.others.to_numpy().tolist() == [["dry bag care", "/care/"]]
    assert found.questions[["question", "shown"]].to_numpy().tolist() == [["Is it dry?", 2]]
    assert found.snapshots == 2
    assert set(found.covered["word"]) == {"volume", "chart"}
    assert found.kinds.to_numpy().tolist() == [["home pages", 1.0], ["plain titles", 1.0]]
    bare = make_brief(topics.iloc[0], asked, None, neighbours)
    assert bare.questions.empty
    assert bare.snapshots == 0
    assert bare.queries["query"].iloc[0] == "dry bag"


@pytest.mark.parametrize(
    ("data", "ideas"),
    [
        (b"dry bag\npaddle float\ndry bag\n", ["dry bag", "paddle float"]),
        ("\ufeffIdea;Von\nSeesack größe;x\n".encode(), ["Seesack größe"]),
        ("caf\xe9 am fluss\nkajak f\xfcr anf\xe4nger\n".encode("latin-1"), ["café am fluss", "kajak für anfänger"]),
        (b'"a, b",1\n\n  \nc,2\n', ["a, b", "c"]),
    ],
)
def test_lists_of_ideas_are_read_as_they_come(data: bytes, ideas: list[str], tmp_path: Path) -> None:
    path = tmp_path / "ideas.csv"
    path.write_bytes(data)
    assert read_ideas(path) == ideas


@pytest.mark.parametrize("data", [b"", b"Idea\n", b"\n\n"])
def test_lists_without_ideas_say_so(data: bytes, tmp_path: Path) -> None:
    path = tmp_path / "ideas.csv"
    path.write_bytes(data)
    with pytest.raises(SourceError, match="holds no ideas"):
        read_ideas(path)


def test_an_empty_map_has_no_topics() -> None:
    pairs = pd.DataFrame({"page": [], "query": pd.Series([], dtype="str"), "role": pd.Series([], dtype="str"), "impressions": []}).astype(
        {"page": int}
    )
    found = group_pairs(pairs, 3, None, None, brand=[], aside=[], most=100, language="english")
    assert found.grouped.empty
    assert topics_of(pairs, found.queries).empty
    assert isinstance(found.pages, sparse.csr_matrix)
