"""Core functions alone on plain frames: roles, groups, openings, redirects, robots, seasons, layers of exports."""

from __future__ import annotations

import csv
import io
import re
from dataclasses import replace
from datetime import date

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
import Stemmer
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import sparse

import nibbet
from nibbet.core.curve import learn_curve
from nibbet.core.entries import largest, strongest
from nibbet.core.groups import are_one, candidate_pairs, kept_apart, lies_above, merge_gain, merge_groups, shared_intent
from nibbet.core.join.address import Home, parse
from nibbet.core.join.grain import Layer, choose_days, covered_days, step_of
from nibbet.core.ledger import _with_inventory
from nibbet.core.likeness import answers_of_each, both_answer, leads, one_search, own_question, shared_queries, title_likeness
from nibbet.core.missing import missing_evidence
from nibbet.core.openings import by_gain, climbs_of_pages, find_openings
from nibbet.core.querymap import add_answer, add_roles, page_words
from nibbet.core.redirects import COVERS, covering_page, page_of_same_name, straighten
from nibbet.core.robots import closing_rules, disallowed
from nibbet.core.split import ASSUMPTION
from nibbet.core.standing import Standing
from nibbet.core.tables import rows_at, spelt
from nibbet.core.thresholds import Thresholds
from nibbet.core.topics import group_pairs, set_aside, topics_of
from nibbet.core.twins import of_two_regions, same_heading
from nibbet.core.windows import Window, Windows
from nibbet.core.words import LETTERS, Lexicon, among, bytes_met, plain, rarity, typos_mended, with_others
from nibbet.render.files import as_csv


def roles_of(rows: list[tuple[int, str, int, int, float]], targets: pd.DataFrame | None = None) -> dict[tuple[int, str], str]:
    pairs = pd.DataFrame(rows, columns=["page", "query", "clicks", "impressions", "answer"])
    addresses = pd.Series(["/longer-address/", "/short/", "/b/", "/a/"])
    found = add_roles(pairs, addresses, Thresholds(), targets)
    shares = found.groupby("query")["share_impressions"].sum()
    assert np.allclose(shares[shares > 0], 1)
    assert (found["role"] == "owner").groupby(found["query"]).sum().max() <= 1, "at most one owner"
    return {(page, query): role for page, query, role in zip(found["page"], found["query"], found["role"], strict=True)}


@pytest.mark.parametrize(("rows", "expected"), [
    ([(0, "q", 90, 900, 0.9), (1, "q", 1, 9, 0.9)], ["owner", "passing"]),
    ([(0, "q", 90, 900, 0.9), (1, "q", 30, 300, 0.9)], ["owner", "rival"]),
    ([(0, "q", 90, 900, 0.9), (1, "q", 30, 300, 0.1)], ["owner", "rival"]),
    ([(0, "q", 90, 900, 0.1)], ["stray"]),
    ([(0, "q", 90, 900, 0.1), (1, "q", 30, 300, 0.2)], ["stray", "stray"]),
    ([(0, "q", 90, 900, 0.1), (1, "q", 3, 9, 0.8)], ["rival", "owner"]),
    ([(0, "q", 5, 50, 0.8), (1, "q", 5, 50, 0.8)], ["rival", "owner"]),  # a tie: the shorter address
    ([(2, "q", 5, 50, 0.8), (3, "q", 5, 50, 0.8)], ["rival", "owner"]),  # a tie: the alphabet
])  # fmt: skip
def test_roles(rows: list[tuple[int, str, int, int, float]], expected: list[str]) -> None:
    assert [roles_of(rows)[(row[0], row[1])] for row in rows] == expected


def test_a_named_target_owns_whatever_the_figures_say() -> None:
    rows = [(0, "q", 90, 900, 0.9), (1, "q", 1, 9, 0.1)]
    assert roles_of(rows, pd.DataFrame({"page": [1, 3], "query": ["q", "other"]})) == {
        (0, "q"): "rival",
        (1, "q"): "owner",
        (3, "other"): "owner",
    }


def test_answer_comes_from_telling_words_and_from_behaviour() -> None:
    pages = pd.DataFrame({"path": ["/canoes/", "/knots/", "/hire/"], "title": ["Canoe guide for the Élver", "Knots", "Boats by the day"]})
    rows = [
        (0, "best canoes élver", 20, 3.0),
        (1, "best canoes elver", 0, 9.0),
        (2, "best canoe rental", 40, 2.0),
        (1, "best knots", 20, 2.0),
    ]
    pairs = pd.DataFrame(rows, columns=["page", "query", "clicks", "position"]).assign(
        impressions=200, expected_clicks=[20.0, 20.0, 40.0, 20.0]
    )
    answer = add_answer(pairs, pages, brand=["tarnbrook"], language="english")["answer"]
    assert answer[0] > 0.8, "plural, accent and order do not matter"
    assert answer[1] < 0.3, "no telling word and never chosen"
    assert answer[2] >= 0.5, "other words, but searchers take it for the answer"
    assert answer[3] > 0.8


def test_words_lose_case_accents_and_endings() -> None:
    lexicon = Lexicon()
    table = lexicon.matrix(pd.Series(["Kayaks ÉLVER", "kayak elver", ""]))
    assert (table[0] != table[1]).nnz == 0
    assert table[2].nnz == 0
    assert plain(pd.Series(["Größe"])).to_pylist() == ["grosse"]
    weight = rarity(table)
    assert (weight > 0).all()


def alike(shown: dict[int, dict[str, int]]) -> pd.DataFrame:
    rows = [(page, query, count) for page, queries in shown.items() for query, count in queries.items()]
    return pd.DataFrame(rows, columns=["page", "query", "impressions"]).assign(answer=0.9, brand=False, position=3.0)


#: what else is known of a candidate pair that is one page
ALIKE = {
    "contested": 0.3,
    "each_answers": 0.8,
    "answers_a": 0.8,
    "answers_b": 0.8,
    "above": False,
    "title_likeness": 0.9,
    "own_question": 0.0,
    "same_heading": False,
    "of_two_regions": False,
    "mutual": 0.8,
}


def test_candidates_share_impressions_both_ways_and_three_queries() -> None:
    twins = {0: {"a": 50, "b": 30, "c": 20}, 1: {"a": 40, "b": 30, "c": 30}}
    neighbours = {2: {"d": 50, "e": 500, "f": 400}, 3: {"d": 40, "g": 30, "h": 30}}
    small = {4: {"i": 5, "j": 5}, 5: {"i": 5, "j": 5}}
    one = {6: {"k": 5}, 7: {"k": 5}}
    found = candidate_pairs(alike({**twins, **neighbours, **small, **one}), Thresholds())
    assert found[["page_a", "page_b"]].to_numpy().tolist() == [[0, 1], [4, 5]], "two are asked about"
    assert are_one(
        found.assign(turn_taking=0.5, intent=np.nan, one_search=1.0, **ALIKE),
        Thresholds(),
    ).tolist() == [True, False], "three are merged"
    assert found["overlap"].iloc[0] == 1.0
    assert found["shared_impressions"].iloc[0] == 200
    deep = pd.DataFrame({"page": [0, 1], "query": ["y", "z"], "impressions": 900, "answer": 0.9, "brand": False, "position": 40.0})
    again = candidate_pairs(pd.concat([alike(twins), deep], ignore_index=True), Thresholds())
    assert again["overlap"].tolist() == [1.0], "chance decides which of the two is listed far down"
    assert candidate_pairs(alike(twins).assign(brand=True), Thresholds()).empty, "brand queries say nothing of intent"


def test_turn_taking_counts_changes_of_the_leading_page() -> None:
    days = pd.date_range("2026-10-01", periods=9)
    lead = [0, 1, 0, 1, 1, 1, 0, 0, 1]  # five changes in eight steps
    rows = [("q", day, page, 2.0 if page == first else 6.0, 10) for day, first in zip(days, lead, strict=True) for page in (0, 1)]
    table = pd.DataFrame(rows, columns=["query", "date", "page", "position", "impressions"])
    pair = pd.DataFrame({"page_a": [0], "page_b": [1]})
    assert leads(table, pair)["turn_taking"].iloc[0] == pytest.approx(5 / 8)
    assert leads(table, pair)["contested"].iloc[0] == pytest.approx(4 / 9)
    table["position"] = np.where(table["page"] == 0, 2.0, 6.0)
    assert leads(table, pair)["turn_taking"].iloc[0] == 0
    for weeks, share in (("AAAABBBBAAAA", 4 / 12), ("AAAAAABBBBBB", 1 / 12)):  # turns for weeks, and one page in place of the other
        days = pd.date_range("2026-07-01", periods=84)
        first = np.repeat(list(weeks), 7)
        rows = [
            ("q", day, page, 2.0 if lead == "AB"[page] else 6.0, 10) for day, lead in zip(days, first, strict=True) for page in (0, 1)
        ]
        turns = leads(pd.DataFrame(rows, columns=["query", "date", "page", "position", "impressions"]), pair)["turn_taking"].iloc[0]
        assert turns == pytest.approx(share if share > 0.1 else 1 / 83), weeks
    other = table.assign(query="r", position=np.where(table["page"] == 0, 6.0, 2.0))
    assert leads(table, pair)["lead_spread"].iloc[0] == 0
    assert leads(pd.concat([table, other]), pair)["lead_spread"].iloc[0] == pytest.approx(np.log(10)), "each leads its own query"


def test_sisters_are_told_from_doubles_by_who_leads_and_by_their_titles() -> None:
    double = {
        "overlap": 0.98,
        "lead_spread": 0.4,
        "contested": 0.36,
        "title_likeness": 0.7,
        "intent": 0.8,
        "chosen_beside": 0.0,
        "both_answer": 0.95,
    }
    sister = {
        "overlap": 0.7,
        "lead_spread": 1.0,
        "contested": 0.25,
        "title_likeness": 0.3,
        "intent": 0.4,
        "chosen_beside": -0.7,
        "both_answer": 0.6,
    }
    between = {
        "overlap": 0.9,
        "lead_spread": 0.6,
        "contested": 0.3,
        "title_likeness": 0.45,
        "intent": 0.6,
        "chosen_beside": -0.3,
        "both_answer": 0.75,
    }
    rng, few = np.random.default_rng(3), pd.DataFrame([double, between, sister])
    many = pd.DataFrame({name: np.clip(rng.normal(value, 0.15, 200), 0.05, 2.0) for name, value in sister.items()}).assign(
        overlap=rng.uniform(0.55, 0.98, 200)
    )
    alone, among = one_search(few), one_search(pd.concat([few, many], ignore_index=True))
    assert alone[0] > 0.95
    assert alone[2] < 0.05
    assert among[1] < alone[1], "where most pairs are sisters, more evidence is needed for a double"
    unknown = one_search(pd.DataFrame([{**dict.fromkeys(double, np.nan), "overlap": 0.98}]))
    assert 0.3 < unknown[0] < 0.99, "what is not known says nothing"


def test_titles_that_name_their_subject_alone_do_not_make_doubles() -> None:
    titles = [
        "Lime wood",
        "Lime wood",
        "Lime wood price",
        "Lime wood oil",
        "Hard lime wood",
        "Ash refund policy",
        "Ash refund policy explained",
    ]
    pages = pd.DataFrame({"title": titles, "h1": None})
    pairs = pd.DataFrame({"page_a": [0, 2, 5], "page_b": [1, 3, 6]})
    bare, apart, double = title_likeness(pages, pairs, Lexicon("english"), [])
    assert np.isnan(bare), "both say what three other titles say too"
    assert apart == 0, "each says its own beyond the subject"
    assert double > 0.6
    rows = pd.DataFrame({"page": [0, 1, 0, 1], "query": ["q", "q", "r", "r"], "brand": False, "impressions": [90, 10, 10, 30]})
    rows = rows.assign(clicks=1, expected_clicks=1.0)
    answers = both_answer(shared_queries(rows.assign(answer=[1.0, 0.2, 1.0, 0.8]), pairs.iloc[:1]), pairs.iloc[:1])
    assert answers[0] == pytest.approx(0.5), "by the impressions of the page shown less"
    led = rows.assign(answer=[1.0, 0.0, 0.0, 1.0], chosen=[9.0, 1, 1, 19])
    answers = answers_of_each(led, pairs.iloc[:1]).iloc[0]
    assert answers["each_answers"] == answers["answers_a"] == pytest.approx(1 / 20), "neither answers what the other is chosen for"
    assert answers["answers_b"] == pytest.approx(1 / 10)


def test_a_page_above_is_one_with_a_page_below_only_where_both_say_the_same() -> None:
    pages = pd.DataFrame(
        {"page": [f"https://tarnbrook.example{path}" for path in ("/rivers", "/rivers/elver", "/rivers-guide", "/elver", "/")]}
    )
    ends = pd.DataFrame({"page_a": [0, 0, 1, 3, 3], "page_b": [1, 2, 3, 1, 4]})
    parent = pd.Series([None, None, None, "https://tarnbrook.example/rivers/elver", None])
    assert lies_above(pages, ends, None).tolist() == [True, False, False, False, True], "by whole parts of the address"
    assert lies_above(pages, ends, parent).tolist() == [True, False, True, True, True], "or by breadcrumbs"
    pair = {"shared": 5, "overlap": 0.9, "turn_taking": 0.4, "contested": 0.3, "intent": 0.9, "one_search": 0.999, "own_question": 0.2}
    pair |= {"same_heading": False, "of_two_regions": False, "mutual": 0.8}
    cases = [(False, 0.4, 0.1), (True, 0.4, 0.9), (True, 0.9, 0.1), (True, 0.9, 0.9), (True, 0.9, np.nan)]
    rows = pd.DataFrame(
        [
            {**pair, "above": above, "each_answers": each, "answers_a": each, "answers_b": each, "title_likeness": titles}
            for above, each, titles in cases
        ]
    )
    assert are_one(rows, Thresholds()).tolist() == [True, False, False, True, True]
    rows = rows.assign(page_a=range(0, 10, 2), page_b=range(1, 10, 2), shared_impressions=9, lead_spread=0.1)
    facts = pd.DataFrame({"page": range(10), "stays": False})
    because = kept_apart(rows, pd.DataFrame({"page": [], "group": []}), facts, Thresholds()).set_index("page")["because"]
    assert because[2].endswith("the other answers only 40% of what one gets clicks for, below 50%, because one is the parent of the other.")
    assert because[4].startswith("One is the parent of the other, and their titles share 10% of their distinctive words, below 50%")


def test_one_page_at_two_addresses_need_not_take_turns_and_one_for_two_regions_is_two() -> None:
    path = [
        "/pots/leek",
        "/blog/leek-2.html",
        "/en-us/a",
        "/en-gb/a",
        "/de/a",
        "/a",
        "/it/backup",
        "/guides/backup",
        *(f"/p{n}/same" for n in range(6)),
        "/owl/when",
        "/owl/photos",
    ]
    titles = ["Leeks in pots", "leeks  in Pots", *["A"] * 4, "Backup", "Backup", *["Product"] * 6, "Owls", "Owls"]
    pages = pd.DataFrame({"path": path, "title": titles, "h1": titles})
    pages.loc[7, "h1"] = None
    ends = pd.DataFrame({"page_a": [0, 2, 4, 6, 8, 14], "page_b": [1, 3, 5, 7, 9, 15]})
    twins, regions = same_heading(pages, ends), of_two_regions(pages, ends)
    assert twins.tolist() == [True, True, True, False, False, False], "neither a template nor a subject is a page"
    assert regions.tolist() == [False, True, True, False, False, False]
    rows = ends.assign(
        shared=5, overlap=0.9, turn_taking=0.02, intent=np.nan, one_search=0.1, shared_impressions=9, lead_spread=0.1, **ALIKE
    )
    rows = rows.assign(same_heading=twins, of_two_regions=regions)
    assert are_one(rows, Thresholds()).tolist() == [True, False, False, False, False, False]
    facts = pd.DataFrame({"page": range(16), "stays": False})
    because = kept_apart(rows, pd.DataFrame({"page": [0, 1], "group": 0}), facts, Thresholds())["because"]
    assert because.tolist()[:2] == ["They are for two languages or regions, by their addresses."] * 2
    assert because.tolist()[2].startswith("They take turns in the lead")


def test_a_page_with_a_question_of_its_own_is_merged_into_none() -> None:
    pages = pd.DataFrame({"title": ["Cedar outdoors", "Mend cracks in cedar", "Cedar: outdoors and in"], "h1": None})
    shared, alone = ["cedar outdoors", "cedar outdoors tips", "cedar in rain"], ["cedar cracks", "mend cedar", "cracks in cedar"]
    answered = {0: shared, 1: shared + alone, 2: [*shared, "cedar in rooms"]}
    pairs = pd.DataFrame([(page, query) for page, queries in answered.items() for query in queries], columns=["page", "query"])
    pairs = pairs.assign(brand=False, impressions=9, answer=0.9, position=4.0)
    ends = pd.DataFrame({"page_a": [0, 0], "page_b": [1, 2]})
    own = own_question(pairs, ends, pages, Lexicon("english"), 0.5)
    assert own.tolist() == [0.75, 0.0], "three of four queries in words of its own title one answers alone; one query is too few to tell"
    rows = ends.assign(shared=5, overlap=0.9, turn_taking=0.4, intent=0.9, one_search=0.999, **ALIKE).assign(own_question=own)
    assert are_one(rows, Thresholds()).tolist() == [False, True]
    facts = pd.DataFrame({"page": range(3), "stays": False})
    rows = rows.assign(shared_impressions=9, lead_spread=0.1)
    because = kept_apart(rows, pd.DataFrame({"page": [], "group": []}), facts, Thresholds())["because"]
    assert "the other does not answer 75% of what one answers with words of its own title" in because[0]


def test_an_address_of_old_leads_to_the_page_of_its_name() -> None:
    gone = pd.Series(["/rivers/elver.html", "/2019/wetsuit/", "/old/roll", "/x/12345", "/kit/index.php", "/lakes/elver.php", "/nothing/"])
    staying = pd.Series(["/rivers/elver/", "/kit/wetsuit/", "/a/roll", "/b/roll", "/x/", "/kit/", "/tarns/elver"], index=range(7, 14))
    assert page_of_same_name(gone, staying).fillna(-1).tolist() == [7, 8, -1, -1, 12, -1, -1], "of several, that of its folder or none"


def test_groups_keep_the_survivor_that_earns_and_protected_pages() -> None:
    pages = pd.DataFrame({"page": [0, 1, 2], "clicks_long": [100, 90, 80], "conversions_long": 0, "backlinks": [0, 5, 0], "protected": [False, False, True],
                          "stays": [False, False, True], "answer": 1.0, "address": ["/a/", "/b/", "/c/"]})  # fmt: skip
    pairs = pd.DataFrame(
        {"page_a": [0, 0, 1], "page_b": [1, 2, 2], "overlap": 0.9, "shared_impressions": 50, "turn_taking": [0.4, 0.3, 0.3]}
    ).assign(shared=5, intent=np.nan, one_search=0.999, **ALIKE)
    found = merge_groups(pairs, pages, Thresholds())
    assert found[found["survivor"]]["page"].tolist() == [2], "a protected page is never merged away"
    assert set(found["page"]) == {0, 1, 2}
    assert merge_groups(pairs.assign(turn_taking=0.05), pages, Thresholds()).empty
    free = merge_groups(pairs, pages.assign(protected=False, stays=False), Thresholds())
    assert free[free["survivor"]]["page"].tolist() == [1], "links from outside count"
    wide = pairs.assign(each_answers=0.1, answers_a=[0.9, 0.1, 0.1], answers_b=[0.1, 0.1, 0.1])
    one = merge_groups(wide, pages.assign(protected=False, stays=False, backlinks=[0, 50, 0]), Thresholds())
    assert one[["page", "survivor"]].to_numpy().tolist() == [[0, True], [1, False]], (
        "what answers all of the other stays, whatever that earns"
    )
    assert one["survivor_answers"].tolist() == [0.9, 0.9]


def curve() -> object:
    rng = np.random.default_rng(0)
    cells = pd.DataFrame({"page": np.repeat(np.arange(200), 35), "bin": np.tile(np.arange(35), 200)})
    cells["impressions"] = 200
    cells["clicks"] = rng.binomial(200, 0.3 * np.exp(-1.1 * (cells["bin"] + 0.5) / 10))
    return learn_curve(cells.assign(device="", surface="", brand=False))


CURVE = curve()


def test_all_queries_of_a_page_rise_by_one_factor() -> None:
    pairs = pd.DataFrame(
        {"page": [0, 0, 1, 2, 2], "query": list("abcde"), "position": [8.0, 16.0, 8.0, 2.0, 8.0], "role": "owner", "answer": 0.9}
    )
    pairs = pairs.assign(impressions=[9000, 1000, 9000, 9000, 1000], brand=False, expected_clicks=0.0)
    now, half, good = (CURVE.rate(place) for place in (pairs["position"].to_numpy(), np.array([4.0, 8.0]), np.array([4.4])))  # type: ignore[attr-defined]
    pairs = pairs.assign(clicks=np.rint(pairs["impressions"] * now).astype(int))
    found = find_openings(pairs, CURVE, ASSUMPTION, 90, Thresholds(), standing=Standing(place=4.4, spread=0.01, spread_below=0.01))  # type: ignore[arg-type]
    gain = found[found["kind"] == "climb"].set_index("query")["gain"].reindex(list("abcde")).fillna(0) * 90 / 30.4
    seen = ASSUMPTION.share(pairs["position"].to_numpy())
    assert gain["a"] == pytest.approx(9000 * (half[0] / seen[0] - now[0]), rel=0.05), "its page comes from 8.8 to 4.4: half its position"
    assert gain["b"] == pytest.approx(1000 * (half[1] / seen[1] - now[1]), rel=0.05), "and so do its other queries"
    assert gain["c"] == pytest.approx(9000 * (good[0] / seen[2] - now[2]), rel=0.05), "a page of one query comes where good pages are"
    assert gain["e"] == pytest.approx(1000 * (1 / seen[4] - 1) * now[4], abs=3), (
        "its page is good already, and this query is harder to win than its others"
    )


def test_openings_are_sized_by_the_curve_and_ordered() -> None:
    rows = [(0, "near", "owner", 0.9, 9.0, 24, 1000, 26.0), (1, "untold", "owner", 0.9, 2.0, 40, 1000, 140.0), (2, "odd", "stray", 0.1, 9.0, 5, 1000, 26.0),
            (3, "top", "owner", 0.9, 1.2, 250, 1000, 245.0), (4, "far", "owner", 0.9, 60.0, 0, 1000, 1.0)]  # fmt: skip
    pairs = pd.DataFrame(rows, columns=["page", "query", "role", "answer", "position", "clicks", "impressions", "expected_clicks"]).assign(
        brand=False
    )
    found = by_gain(find_openings(pairs, CURVE, ASSUMPTION, 90, Thresholds(), standing=Standing()))  # type: ignore[arg-type]
    assert dict(zip(found["page"], found["kind"], strict=True)) == {0: "climb", 1: "snippet", 2: "stray"}
    assert (found["gain_low"] <= found["gain"]).all()
    assert (found["gain"] <= found["gain_high"]).all()
    assert found["gain"].is_monotonic_decreasing
    snippet = found.set_index("page").loc[1]
    assert snippet["gain"] == pytest.approx((140 - 40) * 30.4 / 90)
    assert find_openings(pairs.assign(brand=True), CURVE, ASSUMPTION, 90, Thresholds(), standing=Standing()).empty  # type: ignore[arg-type]


def test_climbs_promise_no_more_than_the_old_place_and_what_is_seldom_chosen_gains_less() -> None:
    rows = [(page, f"{word} {page}", clicks, reference) for page, clicks, reference in ((0, 240, 9.0), (1, 240, 7.5), (2, 240, 4.0), (3, 60, 9.0), *((n, 240, 9.0) for n in range(4, 10))) for word in ("near", "far", "low")]  # fmt: skip
    pairs = pd.DataFrame(rows, columns=["page", "query", "clicks", "position_reference"]).assign(
        role="owner", answer=0.9, position=9.0, impressions=10_000, impressions_reference=10_000, expected_clicks=260.0, brand=False
    )
    found = find_openings(pairs, CURVE, ASSUMPTION, 90, Thresholds(), standing=Standing())  # type: ignore[arg-type]
    gain = found.groupby("page")["gain"].sum()
    assert gain[1] < gain[2] <= gain[0], "who stood higher may hope for more, and none for more than one that never sank"
    restored = (10_000 / ASSUMPTION.share(np.array([9.0])) * CURVE.rate(np.array([7.5])) - 240)[0] * 30.4 / 90
    assert gain[1] == pytest.approx(3 * restored)
    assert gain[3] * 90 / 30.4 + 3 * 60 < 0.8 * (gain[0] * 90 / 30.4 + 3 * 240), (
        "what stands above the results, or a dull title, takes clicks higher up too"
    )
    assert (found["gain_low"] <= found["gain"]).all()
    assert (found["gain"] <= found["gain_high"]).all()


def test_climbs_of_a_page_add_up_and_name_the_first() -> None:
    table = pd.DataFrame({"page": [7, 2, 7, 2, 2], "query": ["a", "b", "c", "d", "e"], "gain": [1.0, 4.0, 3.0, 4.0, 9.0], "impressions": [5, 6, 7, 8, 9],
                          "kind": ["climb", "climb", "climb", "climb", "stray"]}).assign(gain_low=0.5, gain_high=lambda t: t["gain"] * 2, reach=lambda t: t["gain"], reach_low=0.5, sunk=np.nan)  # fmt: skip
    found = climbs_of_pages(table)
    assert found.index.tolist() == [2, 7]
    assert found["first"].tolist() == ["b", "c"], "of equals the first"
    assert found[["queries", "shown", "gain", "gain_low", "gain_high"]].to_numpy().tolist() == [[2, 14, 8, 1, 16], [2, 12, 4, 1, 8]]
    assert climbs_of_pages(table[table["kind"] == "stray"]).empty


def test_merging_weighs_what_each_page_earns_alone() -> None:
    rows = [(0, "q", 500, 5.0, 20), (1, "q", 400, 6.0, 12), (1, "mine", 300, 3.0, 30), (0, "its", 300, 3.0, 30)]
    pairs = pd.DataFrame(rows, columns=["page", "query", "impressions", "position", "clicks"]).assign(expected_clicks=lambda t: t["clicks"])
    groups = pd.DataFrame({"group": [1, 1], "page": [0, 1], "survivor": [True, False]})
    told, once = pd.Series(0.0, index=[0, 1]), pd.Series({1: 0.9})

    def gain(rows: pd.DataFrame) -> pd.Series:
        return merge_gain(groups, rows, told, once, CURVE, ASSUMPTION, Standing(), 90).iloc[0]  # type: ignore[arg-type]

    apart, shared = gain(pairs), gain(pairs[pairs["query"] != "mine"])
    assert shared["gain_low"] <= shared["gain"] <= shared["gain_high"]
    assert shared["gain"] > 0
    assert apart["clicks_alone"] == pytest.approx(30 * 30.4 / 90, rel=0.01)
    assert apart["gain_low"] < shared["gain_low"], "a page's own queries may be lost in a merge"
    assert apart["survivor_rest"] == pytest.approx(300 / 800)


@given(
    st.lists(st.tuples(st.floats(1, 1e4), st.floats(0, 200), st.floats(1, 90)), min_size=1, max_size=20),
    st.floats(1.2, 9),
    st.floats(0.1, 0.8),
)
@settings(max_examples=40, deadline=None)
def test_gains_are_ordered_and_never_for_a_worse_place(rows: list[tuple[float, float, float]], place: float, spread: float) -> None:
    demand, clicks, held = np.array(rows).T
    standing = Standing(place, spread, spread_below=spread)
    assert (standing.places(held, 0.9) <= held + 1e-9).all()
    assert (standing.places(held, 0.1) <= standing.places(held, 0.9) + 1e-9).all()
    found = standing.gains(demand, clicks, held, CURVE, 90)  # type: ignore[arg-type]
    assert (found["gain_low"] <= found["gain"] + 1e-9).all()
    assert (found["gain"] <= found["gain_high"] + 1e-9).all()


def test_pages_that_share_queries_and_stay_apart_say_why() -> None:
    names = ["page_a", "page_b", "overlap", "shared", "shared_impressions", "turn_taking", "intent"]
    rows = [(0, 1, 0.9, 5, 90, 0.4, 0.9), (2, 3, 0.8, 4, 70, 0.02, 0.9), (4, 5, 0.8, 4, 50, 0.4, np.nan)]
    rows += [(6, 7, 0.8, 4, 40, 0.4, 0.1), (8, 9, 0.8, 2, 30, 0.0, np.nan), (10, 11, 0.8, 4, 20, 0.4, 0.9)]
    pairs = pd.DataFrame(rows, columns=names).assign(
        one_search=[0.999] * 5 + [0.1],
        each_answers=0.8,
        answers_a=0.8,
        answers_b=0.8,
        lead_spread=1.0,
        title_likeness=0.3,
        contested=0.3,
        above=False,
        own_question=0.0,
        same_heading=False,
        of_two_regions=False,
        mutual=0.8,
    )
    pages = pd.DataFrame({"page": range(12), "clicks_long": 9, "conversions_long": 0, "backlinks": 0, "protected": False})
    pages = pages.assign(answer=1.0, stays=pages["page"] == 5, address=pages["page"].map("/{}/".format))
    groups = merge_groups(pairs, pages, Thresholds())
    assert set(groups["page"]) == {0, 1}, "a page that stays is not merged away"
    apart = kept_apart(pairs, groups, pages, Thresholds())
    assert apart[["page", "other"]].to_numpy().tolist() == [[2, 3], [4, 5], [6, 7], [8, 9], [10, 11]]
    assert "They take turns in the lead on 2% of days, below 12%" in apart["because"][0]
    assert "stays" in apart["because"][1]
    assert apart["because"][2] == "By the results of their queries, 10% of their clicks have the same intent, below 15%."
    assert apart["because"][3] == "They share only 2 queries; 3 are required."
    assert "by a factor of 2.7 from query to query), titles share 30% of their distinctive words, and 80%" in apart["because"][4]


def test_intent_is_shared_as_far_as_both_draw_the_same_topics() -> None:
    rows = [(0, "map", 80), (0, "hire", 20), (1, "map", 50), (1, "price", 50), (2, "price", 9)]
    pairs = pd.DataFrame(rows, columns=["page", "topic", "chosen"])
    found = shared_intent(pairs, pd.DataFrame({"page_a": [0, 0, 0], "page_b": [1, 2, 3]}))
    assert found.tolist()[:2] == [0.5, 0.0]
    assert np.isnan(found.iloc[2]), "of a page whose results are not known nothing is said"


def test_words_of_links_and_text_say_what_a_page_is_about() -> None:
    pages = pd.DataFrame({"path": ["/a/", "/b/"], "title": ["River guide", None], "text": ["Where to launch", "Tides"]})
    lexicon = Lexicon()
    found = page_words(pages, lexicon, pd.DataFrame({"page": [1, 1], "anchor": ["night paddling", "paddling"]})).toarray()
    words = lexicon.words
    assert found[0, words.index("river")] == 1.0
    assert found[0, words.index("launch")] == pytest.approx(0.5)
    assert found[1, words.index("night")] == found[1, words.index("paddl")] == pytest.approx(0.6), "said twice counts once"
    assert found[0, words.index("night")] == 0


def test_a_leaving_page_is_covered_by_the_one_about_its_subject() -> None:
    names = ["Elver", "Upper Elver", "Dry bag", "Club night", *[f"Water {n}" for n in range(20)]]
    kinds = ["a canoe route"] * 24
    pages = pd.DataFrame(
        {
            "h1": names,
            "title": [f"{name}: {kind}" for name, kind in zip(names, kinds, strict=True)],
            "path": [f"/{n}/" for n in range(24)],
            "clicks_long": 50,
        }
    )
    leaving = pd.DataFrame({"h1": ["Elver", "Upper Elver", "Quiz answers"], "title": ["Elver: a diary", "Upper Elver: a diary", "Quiz answers: a diary"],
                            "path": ["/x/", "/y/", "/z/"], "clicks_long": 0})  # fmt: skip
    table = pd.concat([pages, leaving], ignore_index=True)
    found = covering_page(table, np.array([24, 25, 26]), np.arange(24), language="english", brand=[])
    assert found[24] == 0
    assert found[25] == 1
    assert np.isnan(found[26])


@pytest.mark.parametrize("spoken", ["by folder", "by the crawl"])
def test_no_page_goes_to_one_in_another_language(spoken: str) -> None:
    names = ["Solmare", "Portavento", "Calabruna", "Marilago"]
    pages = pd.DataFrame([(f"/{code}/{name.lower()}/", f"Hotels {name}", code, False) for code in ("de", "en") for name in names], columns=["path", "h1", "language", "gone"])
    gone = pd.DataFrame({"path": ["/solmare-hotels/", "/en/hotels-solmare/"], "h1": "Hotels Solmare", "language": None, "gone": True})
    pages = pd.concat([pages, gone], ignore_index=True).assign(title="", clicks_long=[0, 9, 9, 9, 0, 9, 9, 9, 0, 0])
    if spoken == "by the crawl":
        pages["path"] = [f"/{number}" for number in range(len(pages))]
    else:
        pages["language"] = None
    found = covering_page(pages, np.array([0, 8, 9]), np.array([1, 2, 3, 4, 5, 6, 7]), brand=[])
    assert np.isnan(found[0]), "its English sister is no substitute"
    assert found[8] == 4, "an address from before there were languages"
    assert found[9] == 4


def test_a_long_name_does_not_outweigh_the_question_about_it() -> None:
    names = ["Great Crested Grebe", *(f"{a}{b}" for a in ("Ot", "Kel", "Pol", "Har", "Bad", "Mus") for b in ("ter", "nor", "cat", "ger"))]
    titles = [f"{name} {question}" for name in names for question in ("habitat", "tracks", "lifespan", "sound")]
    titles.remove("Great Crested Grebe lifespan")
    gone = ["great crested grebe lifespan", "otter tracks", "great crested grebe"]
    pages = pd.DataFrame(
        {"h1": [*titles, "", "", ""], "title": "", "path": [*(f"/{n}" for n in range(len(titles))), *gone], "clicks_long": 9}
    )
    leaving = np.arange(len(titles), len(pages))
    found = covering_page(pages, leaving, np.arange(len(titles)), language="english", brand=[])
    assert np.isnan(found.iloc[0]), "its sisters are on other questions"
    assert titles[int(found.iloc[1])] == "Otter tracks"
    assert titles[int(found.iloc[2])].startswith(names[0])


@given(st.dictionaries(st.integers(0, 14), st.one_of(st.none(), st.integers(0, 19)), min_size=1))
def test_no_redirect_map_keeps_a_chain_or_a_loop(steps: dict[int, int | None]) -> None:
    table = straighten(
        pd.DataFrame({"from": [f"p{a}" for a in steps], "to": [None if b is None else f"p{b}" for b in steps.values()], "because": "x"})
    )
    assert set(table["from"]) == {f"p{a}" for a in steps}
    assert not table["to"].isin(table["from"]).any()
    assert ((table["status"] == 301) == table["to"].notna()).all()
    for start, end in steps.items():  # a target that stays is kept as it is
        if end is not None and end not in steps:
            assert table.set_index("from").loc[f"p{start}", "to"] == f"p{end}"


@pytest.mark.parametrize(("path", "closed"), [
    ("/", False), ("/fish", True), ("/fish/salmon", True), ("/fish/open", False), ("/a.pdf", True), ("/a.pdf?x=1", False), ("/tmp/x", True), ("/Fish", False), ("/page?print=1", True),
])  # fmt: skip
def test_robots_rules_by_the_longest_match(path: str, closed: bool) -> None:
    rules = [("*", "disallow", "/fish"), ("*", "allow", "/fish/open"), ("*", "disallow", "/*.pdf$"), ("*", "disallow", "/tmp/"), ("*", "disallow", ""),
             ("*", "disallow", "/*?print="), ("other", "disallow", "/")]  # fmt: skip
    table = pd.DataFrame(rules, columns=["agent", "rule", "pattern"])
    assert disallowed(pd.Series([path]), table)[0] == closed
    assert closing_rules(pd.Series([path]), table).notna()[0] == closed, "what a rule opens has none that closes it"


def test_what_more_would_tell_counts_only_pages_it_bears_on() -> None:
    window = Window(date(2026, 8, 3), date(2026, 10, 31))
    windows = Windows(window, window, window, "before", date(2026, 8, 3))
    columns = {
        "clicks": [9, 90, 1],
        "clicks_long": [19, 900, 4],
        "gone": [False, False, True],
        "published": [pd.Timestamp("2020-01-01"), pd.NaT, pd.NaT],
    }
    given = {"search": {"pair"}, "crawl": {"published"}, "landings": {"page", "sessions"}}

    def pages(poor_clicks: int, *, is_daily: bool = True) -> dict[str, int]:
        cut = replace(windows, is_daily=is_daily)
        found = missing_evidence(pd.DataFrame(columns), given, cut, protects=False, needed=300, poor_clicks=poor_clicks)
        return {one["what"]: one["pages"] for one in found}

    assert (pages(20)["protected pages"], pages(19).get("protected pages")) == (1, None)
    assert pages(20)["visits over a year"] == 1
    assert pages(20)["dates of publication"] == 1, "of living pages without a day"
    assert (pages(20).get("days"), pages(20, is_daily=False)["days"]) == (None, 2), "only tables without days want days"


def test_what_can_be_found_is_indexable() -> None:
    pages = pd.DataFrame({"page": ["/a/", "/b/", "/c/", "/d/"], "path": ["/a/", "/b/", "/c/", "/d/"], "section": "/"})
    crawl = pd.DataFrame(
        {"status": [200, 200, 404, None], "noindex": [False, True, False, None], "elsewhere": [False] * 4, "redirect_page": None}
    )
    table = _with_inventory(pages, crawl)
    assert table["indexable"].tolist() == [True, False, False, pd.NA]
    assert table["blocked"].tolist() == [False, True, False, False]
    assert table["gone"].tolist() == [False, False, True, False]


@pytest.mark.parametrize(("dates", "step"), [
    (pd.date_range("2026-01-01", periods=40), "day"), (pd.date_range("2026-01-05", periods=9, freq="7D"), "week"), (pd.date_range("2026-01-01", periods=6, freq="MS"), "month"),
    (["2026-01-01", "2026-02-01"], "month"), (["2026-01-09"], "day"), (["2026-01-01", "2026-01-02", "2026-02-01"], "day"),
])  # fmt: skip
def test_steps_of_dates(dates: object, step: str) -> None:
    assert step_of(pd.Series(pd.to_datetime(dates))) == step  # type: ignore[call-overload]


def test_finer_layers_win_and_a_shared_month_goes_whole() -> None:
    layers = {0: Layer(0, "page", "month", (), "months.csv"), 1: Layer(1, "page", "day", ("device",), "devices.csv"), 2: Layer(2, "page", "day", (), "days.csv"),
              3: Layer(3, "pair", "day", ("query",), "pairs.csv")}  # fmt: skip
    months = pd.DataFrame({"layer": 0, "date": pd.to_datetime(["2026-08-01", "2026-09-01"])})
    devices = pd.DataFrame({"layer": 1, "date": pd.date_range("2026-09-20", "2026-10-10")})
    days = pd.DataFrame({"layer": 2, "date": pd.date_range("2026-10-01", "2026-10-31")})
    pairs = pd.DataFrame({"layer": 3, "date": pd.date_range("2026-08-01", "2026-10-31")})
    chosen = choose_days(pd.concat([months, devices, days, pairs], ignore_index=True), layers, prefer=())
    instead = {number: rows["instead"].dropna().value_counts().to_dict() for number, rows in chosen.groupby("layer")}
    assert instead == {0: {"devices.csv": 1}, 1: {"days.csv": 10}, 2: {}, 3: {}}
    used = chosen[chosen["instead"].isna() & (chosen["layer"] != 3)]
    covered = covered_days(used, layers)["date"]
    assert covered.is_unique
    assert covered.iloc[0] == pd.Timestamp("2026-08-01")
    assert pd.Timestamp("2026-08-31") in set(covered), "a month covers all its days"
    assert pd.Timestamp("2026-09-05") not in set(covered), "its rows were set aside whole"


def test_thin_rates_are_marked_in_both_tables() -> None:
    days = pd.date_range("2026-08-01", "2026-10-31")
    busy = pd.DataFrame({"date": days, "page": "/busy/", "query": "canoe", "clicks": 5, "impressions": 50, "position": 3.0})
    quiet = pd.DataFrame({"date": days[:4], "page": "/quiet/", "query": "raft", "clicks": 0, "impressions": 2, "position": 3.0})
    site = nibbet.Site(home="https://tarnbrook.example/", search=pd.concat([busy, quiet]))
    assert site.pages().set_index("page")["thin"].to_dict() == {
        "https://tarnbrook.example/busy/": False,
        "https://tarnbrook.example/quiet/": True,
    }
    assert site.queries().set_index("query")["thin"].to_dict() == {"canoe": False, "raft": True}
    site.close()


def test_spellings_parsed_in_portions_are_those_parsed_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    home = Home("https://tarnbrook.example/")
    spellings = pd.Series([f"http://www.tarnbrook.example/a{n}/?utm_x={n}#top" for n in range(40)], index=range(100, 140), dtype="str")
    whole = parse(spellings, home)
    monkeypatch.setattr("nibbet.core.join.address.AT_ONCE", 7)
    assert parse(spellings, home).equals(whole)
    assert whole.index.tolist() == list(range(100, 140))
    assert whole["strict"].tolist() == [f"/a{n}/" for n in range(40)]


@given(
    st.lists(
        st.lists(st.sampled_from("kayak canoe river lake tent hire guide map".split()), min_size=1, max_size=5), min_size=2, max_size=25
    )
)
def test_the_short_way_to_a_covering_page_finds_the_best_of_all(titles: list[list[str]]) -> None:
    pages = pd.DataFrame({"title": [" ".join(words) for words in titles], "h1": None, "path": "/", "clicks_long": range(len(titles))})
    leaving, staying = np.arange(len(titles) // 2), np.arange(len(titles) // 2, len(titles))
    found = covering_page(pages, leaving, staying, language="english", brand=[])
    stems = [{word.removesuffix("e") for word in words} for words in titles]
    known = {stem: sum(stem in other for other in stems) for words in stems for stem in words}
    weight = {stem: np.log1p(len(titles) / count) for stem, count in known.items()}
    where = {stem: tuple(stem in other for other in stems) for stem in known}
    alike = {stem: sum(other == places for other in where.values()) if known[stem] > 1 else 1 for stem, places in where.items()}
    as_name = {stem: weight[stem] / alike[stem] for stem in known}  # words that always occur together are one name

    def share(page: int, other: int, of: dict[str, float]) -> float:
        return sum(of[stem] for stem in stems[page] & stems[other]) / sum(of[stem] for stem in stems[page])

    for page in leaving:
        shares = {other: min(share(page, other, weight), share(page, other, as_name)) for other in staying}
        reaching = {other for other, part in shares.items() if part >= COVERS + 1e-9}
        if reaching:
            assert shares[int(found[page])] >= COVERS - 1e-9
        elif all(part < COVERS - 1e-9 for part in shares.values()):
            assert np.isnan(found[page])


@given(st.lists(st.tuples(st.integers(0, 9), st.sampled_from("abcdefgh"), st.integers(1, 90)), min_size=1, max_size=60))
@pytest.mark.slow
def test_candidates_found_in_portions_are_those_found_at_once(rows: list[tuple[int, str, int]]) -> None:
    pairs = pd.DataFrame(rows, columns=["page", "query", "impressions"]).drop_duplicates(["page", "query"]).assign(answer=1.0, brand=False)
    pairs["position"] = 1.0 + (pairs["impressions"] * 7 + pairs["page"]) % 40
    whole = candidate_pairs(pairs, Thresholds())
    with pytest.MonkeyPatch.context() as small:
        small.setattr("nibbet.core.groups.MEETINGS_AT_ONCE", 3)
        pd.testing.assert_frame_equal(candidate_pairs(pairs, Thresholds()), whole)


def test_common_queries_propose_no_pair_but_count_in_its_overlap() -> None:
    rows = [(page, "canoe", 10) for page in range(300)]
    rows += [(page, f"own {page} {n}", 50) for page in range(300) for n in range(3)]
    rows += [(page, f"shared {n}", 200) for page in (0, 1) for n in range(3)]
    pairs = pd.DataFrame(rows, columns=["page", "query", "impressions"]).assign(answer=1.0, brand=False, position=4.0)
    found = candidate_pairs(pairs, Thresholds())
    assert found[["page_a", "page_b", "shared", "shared_impressions"]].to_numpy().tolist() == [[0, 1, 4, 1220]]
    assert found["overlap"].iloc[0] == pytest.approx(610 / 760)
    assert candidate_pairs(pairs, Thresholds(), np.arange(300) != 1).empty, "a page that is gone is like none"


cells = st.one_of(st.none(), st.text(max_size=12).filter(lambda text: "\x00" not in text and "\r" not in text))


@given(
    st.lists(
        st.tuples(cells, st.one_of(st.none(), st.integers(-(10**9), 10**9)), st.one_of(st.none(), st.floats(-1e9, 1e9))),
        min_size=1,
        max_size=8,
    )
)
@pytest.mark.slow
def test_a_csv_file_says_what_the_table_says(rows: list[tuple[str | None, int | None, float | None]]) -> None:
    frame = pd.DataFrame(
        {
            "text": pd.array([row[0] for row in rows], dtype="str"),
            "n": pd.array([row[1] for row in rows], dtype="Int64"),
            "x": [np.nan if row[2] is None else row[2] for row in rows],
        }
    )
    head, *told = csv.reader(io.StringIO(as_csv(frame)))
    assert head == ["text", "n", "x"]
    for (text, number, value), (said, whole, part) in zip(rows, told, strict=True):
        risky = bool(text) and (text[0] in "=+-@" or ord(text[0]) < 32 or 127 <= ord(text[0]) < 160)
        assert said == ("'" if risky else "") + (text or "")
        assert whole == ("" if number is None else str(number))
        if value is not None:
            assert float(part) == pytest.approx(value, rel=6e-6)
        else:
            assert part == ""


def test_rare_misspellings_count_as_the_word_they_stand_beside() -> None:
    usual = [f"canoe on merrowgarth {n}" for n in range(30)]
    odd = ["canoe on merowgarth", "canoe on merrowgrath", "canoe on merrowgartth", "canoe on merrowgerth"]
    other = ["canoe on harrowgarth", "canoe on merrow", "canoe on marrowgerth"]
    lexicon = Lexicon()
    table = lexicon.matrix(pd.Series([*usual, *odd, *other]))
    right = lexicon.words.index("merrowgarth")
    mended = typos_mended(table, lexicon.words).toarray()[:, right]
    assert mended[30:34].all(), "a letter left out, swapped, put in, changed"
    assert not mended[34:].any(), "another first letter, half the word, two letters off"
    known = np.array([lexicon.words.index(word) for word in lexicon.words if word.startswith("merowg")])
    assert not typos_mended(table, lexicon.words, known).toarray()[30, right], "a word of a page is no typo"


@given(st.lists(st.lists(st.integers(0, 3), min_size=4, max_size=4), min_size=1, max_size=6))
def test_the_strongest_entry_is_the_first_of_the_greatest(rows: list[list[int]]) -> None:
    table = np.array(rows)
    found = strongest(sparse.csr_matrix(table))
    assert found.tolist() == [int(row.argmax()) if row.max() > 0 else -1 for row in table]


@given(st.lists(st.text("Ab 9é-", max_size=12), min_size=1, max_size=6))
def test_a_text_has_each_of_its_words_once(texts: list[str]) -> None:
    stem, table = Stemmer.Stemmer("english").stemWord, Lexicon().matrix(pd.Series(texts, dtype="str"))
    for row, text in enumerate(texts):
        words = {stem(word) for word in re.split(r"[^a-z0-9]+", text.lower().replace("é", "e")) if word}
        assert table[row].nnz == len(words)
    assert (table.data == 1).all()


@given(st.lists(st.text("ab 9é-", max_size=6), min_size=1, max_size=9), st.integers(0, 4))
def test_bytes_tell_which_texts_have_more_than_letters(texts: list[str], start: int) -> None:
    found = with_others(pa.array(texts, pa.large_string())[start:], LETTERS)
    assert found.tolist() == [bool(set(text) - set(LETTERS)) for text in texts[start:]]
    known = pd.Series(texts[::2], dtype="str")
    assert among(pd.Series([*texts, None], dtype="str"), known).tolist() == [*(text in texts[::2] for text in texts), False]


@given(st.lists(st.text("a 9é-@", max_size=6), min_size=1, max_size=9))
def test_bytes_tell_which_kinds_of_letters_a_text_has(texts: list[str]) -> None:
    kinds = ("abc", "a9", " ")
    found = bytes_met(pa.array(texts, pa.large_string()), *kinds)
    for text, met in zip(texts, found.tolist(), strict=True):
        told = [bool(set(text) & set(letters)) for letters in kinds] + [bool(set(text) - set("".join(kinds)))]
        assert [bool(met & 1 << number) for number in range(4)] == told


def test_texts_in_portions_mean_what_they_mean_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    texts = pd.Series([f"Zelt {n % 7} fürs kayak{n % 5}" if n % 3 else f"www.a{n}.example" for n in range(40)] + [None, ""], dtype="str")
    one, whole, apart = Lexicon(), Lexicon().matrix(texts), set_aside(texts, ["kayak4"], ["zelt 2"])
    monkeypatch.setattr("nibbet.core.words.AT_ONCE", 7)
    table = one.matrix(texts)
    assert (table != whole).nnz == 0
    assert set_aside(texts, ["kayak4"], ["zelt 2"]).equals(apart)
    assert set(apart.dropna()) == {"brand", "address typed as a query", "no words", "by [topics] aside"}


@given(st.lists(st.integers(0, 5), max_size=12), st.integers(0, 14))
def test_the_largest_are_as_many_as_asked_and_of_equals_the_first(values: list[int], count: int) -> None:
    order = sorted(range(len(values)), key=lambda at: (-values[at], at))
    assert largest(np.array(values, dtype=float), count).tolist() == sorted(order[:count])


def test_categories_and_texts_of_queries_mean_the_same() -> None:
    rng = np.random.default_rng(3)
    rows = [
        (page, f"{a} {b}")
        for page in range(12)
        for a in ("canoe", "tent", "stove")
        for b in ("repair", "hire", f"guide{page % 4}")
        if rng.random() < 0.7
    ]
    pairs = pd.DataFrame(rows, columns=["page", "query"]).sort_values(["page", "query"], ignore_index=True)
    shown = rng.integers(1, 400, len(pairs))
    pairs = pairs.assign(
        impressions=shown, clicks=shown // 9, expected_clicks=shown / 8.0, position=rng.uniform(1, 25, len(pairs)), brand=False
    )
    pairs = pairs.assign(position_sum=pairs["position"] * shown, placed=shown)
    pages = pd.DataFrame({"page": [f"https://t.example/{n}" for n in range(12)], "title": [f"canoe guide{n % 4}" for n in range(12)]})
    found = []
    for kind in ("str", pd.CategoricalDtype(["", *sorted(set(pairs["query"])), "zzz of an editor"])):
        lexicon = Lexicon()
        mapped = add_answer(pairs.astype({"query": kind}), pages, brand=[], language="english", lexicon=lexicon)
        mapped = add_roles(mapped, pages["page"], Thresholds())
        topics = group_pairs(mapped, 12, None, None, brand=[], aside=[], most=99, language="english", lexicon=lexicon)
        opened = by_gain(find_openings(mapped, CURVE, ASSUMPTION, 90, Thresholds(), standing=Standing()))
        found.append((mapped.assign(query=spelt(mapped["query"]), topic=spelt(topics_of(mapped, topics.queries))), opened))
    for one, other in zip(*found, strict=True):
        pd.testing.assert_frame_equal(one, other, check_dtype=False, rtol=1e-9)
    assert found[0][0]["answer"].nunique() > 3
    assert len(found[0][1]) > 10


@given(st.lists(st.tuples(st.booleans(), st.integers(0, 9)), max_size=8))
def test_chosen_rows_are_those_of_the_frame(rows: list[tuple[bool, int]]) -> None:
    frame = pd.DataFrame(rows, columns=["chosen", "a"]).assign(b=lambda f: f["a"].astype("str"), c=1.0)
    pd.testing.assert_frame_equal(rows_at(frame, frame["chosen"], ["b", "a"]), frame.loc[frame["chosen"].astype(bool), ["b", "a"]])


@pytest.mark.parametrize(("query", "title", "other"), [
    ("皮划艇 保养", "皮划艇保养指南", "皮划艇租赁价格"), ("カヤックの選び方", "初心者のカヤック 選び方ガイド", "カヤックの保管場所"),
    ("카약은 보관", "카약 보관 방법", "카약 대여 가격"), ("วิธีเก็บเรือคายัค", "เก็บเรือคายัค อย่างไร", "เช่าเรือคายัค ราคา"),
])  # fmt: skip
def test_texts_without_blanks_between_words_are_compared(query: str, title: str, other: str) -> None:
    lexicon = Lexicon("english")
    asked, page, apart = lexicon.same_width(*(lexicon.matrix(pd.Series([text])) for text in (query, title, other)))
    shared = [float(asked.multiply(table).sum() / asked.sum()) for table in (page, apart)]
    assert shared[0] >= 0.65
    assert shared[1] < shared[0]
    assert lexicon.matrix(pd.Series(["kayak 皮艇 kayaks"])).sum() == 2, "words with blanks are stems as before"
    lexicon.matrix(pd.Series(["किताब कैसे", "كِتاب أحمد", "שָׁלוֹם", "trip ❤️ lake"]))
    assert lexicon.words[-7:] == ["किताब", "कैसे", "كتاب", "أحمد", "שלום", "trip", "lake"], "signs of vowels part no word"


def test_the_weaker_of_two_pages_on_one_question_answers_it_and_a_sister_does_not() -> None:
    """Sixty pages keep steady positions; two have one question, one of them behind throughout; two are sisters, each first for its own."""
    names = [f"tool{number} care" for number in range(60)] + ["oil kinds", "oil kinds compared", "lamp size", "lamp price"]
    pages = pd.DataFrame({"title": names, "path": "/"})
    rows = [(number, name, 2.0 + number / 20) for number, name in enumerate(names[:60])]
    rows += [(60, "oil kinds", 5.0), (61, "oil kinds", 9.0), (60, "oil kinds for engines", 5.5), (61, "oil kinds for engines", 9.6)]
    rows += [(62, "lamp size", 3.0), (63, "lamp price", 3.0), (63, "lamp size", 9.0), (62, "lamp price", 9.0)]
    pairs = pd.DataFrame(rows, columns=["page", "query", "position"]).assign(clicks=5, impressions=100, expected_clicks=5.0)
    answer = add_answer(pairs, pages, brand=[], language="english").set_index(["page", "query"])["answer"]
    assert answer[61, "oil kinds for engines"] >= 0.5
    assert max(answer[63, "lamp size"], answer[62, "lamp price"]) < 0.3
