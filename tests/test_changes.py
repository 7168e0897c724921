"""What changes between two windows, piece by piece: noise, growth, access, parts; and how it is told."""

from __future__ import annotations

import csv
import io
from datetime import date
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import nibbet
from nibbet.cli.main import main
from nibbet.config import make_config
from nibbet.core.access import access_of
from nibbet.core.change import ASSUMED_DRIFT, change, drift_of, unsteadiness
from nibbet.core.common_falls import common_falls, fell_together
from nibbet.core.compare import mean_noise, page_noise, shared_noise
from nibbet.core.redirects import names_its_own
from nibbet.core.replaced import replaced
from nibbet.core.section_pull import pull_lost_by_sections
from nibbet.core.split import ASSUMPTION, query_growth, row_parts, split
from nibbet.core.tables import PARTS
from nibbet.core.windows import Window, make_windows
from nibbet.core.words import Lexicon

HOME = "https://tarnbrook.example/"


def windowed(rng: np.random.Generator, pages: int, spread: float) -> tuple[np.ndarray, np.ndarray]:
    """Clicks of pages in two windows that stray from one level."""
    level = rng.lognormal(5.5, 0.7, pages)
    recent, reference = (rng.poisson(level * np.exp(rng.normal(0, spread / np.sqrt(2), pages))).astype(float) for _ in range(2))
    return recent, reference


@pytest.mark.parametrize("spread", [0.08, 0.15, 0.3])
@pytest.mark.parametrize("changed", [0.0, 0.15, 0.35])
def test_pages_that_changed_do_not_widen_the_noise_of_others(spread: float, changed: float) -> None:
    rng = np.random.default_rng(int(100 * spread + 1000 * changed))
    recent, reference = windowed(rng, 3000, spread)
    hit = rng.random(3000) < changed
    recent = np.where(hit, np.rint(recent * rng.choice([0.3, 0.5, 1.9], 3000)), recent)
    assert drift_of(recent, reference, 1.0) == pytest.approx(spread, rel=0.15 if changed < 0.3 else 0.35)


def test_few_rows_lean_on_the_careful_side() -> None:
    rng = np.random.default_rng(2)
    recent, reference = windowed(rng, 3000, 0.2)
    assert drift_of(recent[:15], reference[:15], 1.0) == ASSUMED_DRIFT
    few = [drift_of(*windowed(np.random.default_rng(seed), 40, 0.2), 1.0) for seed in range(60)]
    assert np.median(few) == pytest.approx(0.2, rel=0.1), "of few rows more than the best guess is taken, which would be too little"


def test_a_restless_page_has_wider_noise_than_a_calm_one() -> None:
    rng = np.random.default_rng(3)
    spread = np.where(np.arange(400) < 80, 0.5, 0.1)[:, None]
    weeks = rng.poisson(80 * np.exp(np.repeat(rng.normal(0, 1, (400, 20)), 4, axis=1) * spread))
    traits = unsteadiness(weeks)
    assert traits[:80].min() > np.median(traits[80:])
    recent, reference = (rng.poisson(1000 * np.exp(rng.normal(0, 1, 400) * spread[:, 0])).astype(float) for _ in range(2))
    noise = page_noise(recent, reference, 1.0, np.ones(400), np.column_stack([traits, np.full(400, np.nan)]))
    assert noise[:80].mean() > 2 * noise[80:].mean()
    same = page_noise(recent, reference, 1.0, np.ones(400), np.full((400, 2), np.nan))
    assert (same == same[0]).all(), "of which nothing is known, all have the noise of the site"
    assert np.isnan(unsteadiness(weeks[:, :16])).all(), "a few weeks tell nothing"
    week, one = np.arange(80), np.ones((30, 1))
    fell, waved = np.where(week < 40, 100, 30) * one, np.where(week // 8 % 2, 100, 30) * one
    once, often = np.split(unsteadiness(rng.poisson(np.concatenate([fell, waved, np.full((200, 80), 65)])))[:60], 2)
    assert once.max() < often.min(), "a lasting change alone is not unsteady"


def test_what_members_stray_by_cancels_out_in_their_sum() -> None:
    noise = mean_noise(np.full(105, 50.0), np.full(105, 0.2), np.repeat([0, 1], [100, 5]), 3)
    assert noise[0] == pytest.approx(0.02)
    assert noise[1] == pytest.approx(0.2 / np.sqrt(5))
    assert noise[2] == 0.0


def test_nothing_inside_the_band_is_real_and_seasons_are_taken_off() -> None:
    recent, reference = np.array([9.2e5, 5e5, 9e5, 5e5]), np.full(4, 1e6)
    found = change(recent, reference, scale=1.0, noise=0.02, season=np.array([1.0, 1.0, 1.5, 0.5]))
    assert found["change_real"].tolist() == [False, True, False, False], (
        "inside 10%; fallen; hidden by a season, yet inside 10%; its season alone"
    )
    assert found["change_share"].tolist() == pytest.approx([-0.08, -0.5, -0.1, -0.5])


kinds = st.tuples(st.integers(0, 3), st.integers(0, 2000), st.integers(0, 2000), st.floats(1, 60), st.floats(1, 60), st.floats(0, 0.5))
page_facts = st.tuples(st.booleans(), st.floats(0.05, 1.0), st.booleans(), st.integers(0, 900), st.integers(0, 900))


@settings(max_examples=60, deadline=None)
@given(st.lists(kinds, min_size=1, max_size=15), st.lists(page_facts, min_size=4, max_size=4))
def test_parts_add_up_whatever_befell_the_pages(rows: list[tuple[float, ...]], facts: list[tuple[float, ...]]) -> None:
    names = ["page", "impressions", "impressions_reference", "position", "position_reference", "rate"]
    pairs = pd.DataFrame(rows, columns=names).assign(query=[f"q{n % 5}" for n in range(len(rows))], section=0)
    for suffix in ("", "_reference"):
        pairs[f"expected_clicks{suffix}"] = pairs[f"impressions{suffix}"] * pairs["rate"]
    pages = pd.DataFrame(facts, columns=["came", "lived", "event", "clicks_recent", "clicks_reference"])
    pages["lived"] = pages["lived"].where(~pages["came"], 1.0)
    pairs = pairs.join(pages[["came", "lived", "event"]], on="page")
    parts = row_parts(pairs, ASSUMPTION)
    assert np.allclose(parts[["demand", "rank", "access", "untold"]].sum(axis=1), parts["e1"] - parts["e0"], atol=1e-6)
    found = split(parts, pairs["page"], pages.rename_axis("page").reset_index()[["page", "clicks_recent", "clicks_reference", "came"]])
    assert np.allclose(found[PARTS].sum(axis=1), pages["clicks_recent"] - pages["clicks_reference"], atol=1e-6)
    assert not found.loc[pages["came"], ["rank", "pull", "untold"]].to_numpy().any()


@pytest.mark.parametrize(("lived", "after", "access"), [(0.05, 0.0, 0.0), (0.05, 70.0, 40.0), (0.5, 20.0, 30.0)])
def test_the_first_days_of_a_page_tell_no_usual_clicks(lived: float, after: float, access: float) -> None:
    """A page with 30 clicks in its first days, which search showed no more, has not lost the 600 that a whole window would have had."""
    pairs = pd.DataFrame({"page": [0, 1], "query": ["news", "other"], "section": 0, "impressions": [after * 10, 900.0], "impressions_reference": [300.0, 900.0],
                          "position": 3.0, "position_reference": 3.0, "expected_clicks": [after, 90.0], "expected_clicks_reference": [30.0, 90.0],
                          "came": False, "lived": [lived, 1.0], "event": False})  # fmt: skip
    parts = row_parts(pairs, ASSUMPTION).loc[0]
    assert parts["access"] == pytest.approx(access)
    assert parts[["demand", "rank", "access", "untold"]].sum() == pytest.approx(after - 30)


def test_growth_is_that_of_the_page_that_leads_and_stayed() -> None:
    pairs = pd.DataFrame(
        {
            "query": ["a", "a", "b", "c"],
            "impressions": [500, 900, 300, 400],
            "impressions_reference": [1000, 100, 300, 0],
            "position": [2.0, 15.0, 3.0, 4.0],
            "position_reference": [2.0, 15.0, 3.0, np.nan],
            "came": [False, False, True, False],
        }
    )
    growth = query_growth(pairs, ASSUMPTION)
    assert growth[:2] == pytest.approx([0.5, 0.5]), "a page far down does not tell how much was searched"
    assert np.isnan(growth[2]), "nor does a page that came or went"
    assert np.isnan(growth[3])


def test_how_a_page_came_or_went() -> None:
    windows = make_windows(date(2025, 7, 1), date(2026, 10, 31), recent=90, long=365, reference=None)
    usual = dict(clicks=100, base=100.0, clicks_last28=30, impressions=900, impressions_reference=900, impressions_long=3000, born=None,
                 first_seen="2025-07-01", gone=False, blocked=False, robots_blocked=None, redirects_to=None, status=200, index_state=None)  # fmt: skip
    cases = {
        "as ever": ({}, ""),
        "born late": ({"born": "2026-05-01", "base": 0.0, "first_seen": "2026-05-03"}, "new"),
        "first shown late": ({"base": 2.0, "first_seen": "2025-10-20"}, "new"),
        "shown late, but hardly": ({"base": 2.0, "first_seen": "2025-10-20", "impressions_long": 12}, ""),
        "never shown before, no days": ({"base": 0.0, "impressions_reference": 0, "first_seen": None}, "new"),
        "fails": ({"gone": True, "status": 404, "clicks": 20, "clicks_last28": 0}, "gone"),
        "fails since yesterday": ({"gone": True, "status": 404, "clicks": 80, "clicks_last28": 25}, ""),
        "shut": ({"blocked": True, "clicks": 20, "clicks_last28": 1}, "blocked"),
        "closed to robots": ({"robots_blocked": True, "clicks": 20, "clicks_last28": 1}, "blocked"),
        "out of the index": ({"index_state": "not indexed", "clicks": 20, "clicks_last28": 1}, "blocked"),
        "old address": ({"gone": True, "status": 301, "redirects_to": HOME + "new address", "clicks": 10, "clicks_last28": 0}, "moved"),
        "new address": ({"clicks": 190, "base": 100.0}, "moved"),
    }
    table = pd.DataFrame([{**usual, **more, "page": HOME + name} for name, (more, _) in cases.items()])
    table = table.assign(born=pd.to_datetime(table["born"]), first_seen=pd.to_datetime(table["first_seen"]), reference_known=True)
    found = access_of(table, windows)
    assert dict(zip(cases, found["access"], strict=True)) == {name: kind for name, (_, kind) in cases.items()}
    part = access_of(
        table.head(2).assign(first_seen=pd.Timestamp("2025-07-01"), clicks=[300, 20], base=[100.0, 40.0], born=pd.Timestamp("2025-09-17")),
        windows,
    )
    assert part["access"].tolist() == ["new", ""]
    assert part["lived"].tolist() == [1.0, pytest.approx(0.5)]
    assert (access_of(table.assign(reference_known=False), windows)["access"] == "").all()


def test_undated_new_pages_are_new_not_better_placed(tmp_path: Path) -> None:
    rng = np.random.default_rng(5)
    rows = [(f"/a/{n}/", f"words {n}", clicks, clicks * 9, 3.0) for n, clicks in enumerate(rng.integers(40, 400, 30))]
    table = pd.DataFrame(rows, columns=["page", "query", "clicks", "impressions", "position"])
    toml = f'[site]\nhome = "{HOME}"\n'
    for name, part, period in (("now", table, "2026-08-03, 2026-10-31"), ("then", table.iloc[1:], "2025-08-03, 2025-10-31")):
        part.to_csv(tmp_path / f"{name}.csv", index=False)
        toml += f'[[source]]\nkind = "search"\nfiles = "{name}.csv"\nperiod = [{period}]\n'
    (tmp_path / "nibbet.toml").write_text(toml, "utf-8")
    with nibbet.open_site(tmp_path) as site:
        found = site.compare(by="page").set_index("key")
    assert found.loc[HOME + "a/0/", "why"] == "new"
    assert found["why"].drop(HOME + "a/0/").eq("").all()


def test_only_pages_on_the_same_question_share_a_word_of_their_own() -> None:
    said = pd.Series(["otter lifespan", "otter tracks", "otter food", "how long otters live lifespan", "otter sound"])
    pairs = pd.DataFrame({"page_a": [0, 0, 0, 0], "page_b": [1, 2, 3, 4]})
    assert names_its_own(said, pairs, Lexicon("en")).tolist() == [False, False, True, False]


def test_days_that_are_not_complete_are_told_once_and_days_left_out_as_such() -> None:
    days = pd.date_range("2026-06-01", "2026-10-31")
    pages = pd.DataFrame({"date": days, "page": "/a/", "clicks": 20, "impressions": 200, "position": 3.0})
    pages.loc[pages.index[-2:], ["clicks", "impressions"]] = [3, 30]
    with nibbet.Site(home=HOME, search=pages) as site:
        said = {note["code"]: note["text"] for note in site.account["notes"]}
    assert said["partial_days"] == "Days after 2026-10-29 are not complete yet and left out: 6 clicks. Every window ends with 2026-10-29."
    with nibbet.Site(home=HOME, search=pages, settings={"site": {"as_of": date(2026, 10, 27)}}) as site:
        said = {note["code"]: note["text"] for note in site.account["notes"]}
    assert said["partial_days"].startswith("Days after 2026-10-27 are left out, as asked: 46 clicks.")


def test_what_changed_is_told_by_clicks_and_by_impressions(ran: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["compare", str(ran), "--by", "page", "--order", "impressions", "--format", "csv", "-q"]) == 0
    rows = list(csv.DictReader(io.StringIO(capsys.readouterr().out)))
    sizes = [abs(float(row["impressions_change"])) for row in rows]
    assert sizes == sorted(sizes, reverse=True)
    assert main(["compare", str(ran), "--order", "pages"]) == 2
    assert "--order" in capsys.readouterr().err
    assert main(["compare", str(ran), "-q"]) == 0
    said = capsys.readouterr().out
    assert "Pages whose impressions changed most" in said
    assert "conversions from search" in said
    gone = [row["key"] for row in rows if row["why"] == "moved"]
    assert main(["page", gone[0], "--site", str(ran), "-q"]) == 0
    said = capsys.readouterr().out
    assert "2026-08-03..2026-10-31, against 2025-08-03..2025-10-31 (a year earlier); long window" in said
    assert "Its address moved; the change is real." in said
    assert main(["decide", str(ran), "--top", "2", "-q"]) == 0
    assert capsys.readouterr().out.startswith("2026-08-03..2026-10-31, against"), "the windows stand once, above the list"


def test_windows_of_other_years_keep_their_weekdays() -> None:
    from nibbet.core.windows import year_earlier

    windows = make_windows(date(2024, 1, 1), date(2026, 10, 31), recent=90, long=365, reference="before")
    earlier = year_earlier(windows)
    assert earlier is not None
    assert earlier.recent == Window(date(2025, 8, 4), date(2025, 11, 1))
    assert earlier.recent.start.weekday() == windows.recent.start.weekday()
    assert year_earlier(make_windows(date(2025, 12, 1), date(2026, 10, 31), recent=90, long=365, reference="before")) is None


def test_the_noise_of_a_whole_series_is_that_of_its_weeks() -> None:
    windows = make_windows(date(2026, 3, 1), date(2026, 10, 31), recent=42, long=365, reference="before")
    found = []
    for seed in range(150):
        rng, days = np.random.default_rng(seed), pd.date_range("2026-03-01", "2026-10-31")
        week = rng.normal(0, 0.1, 40)[(pd.Timestamp(windows.recent.end) - days).days // 7]
        found.append(shared_noise(pd.DataFrame({"date": days, "clicks": rng.poisson(3_000 * np.exp(week))}), windows) ** 2)
    assert np.mean(found) == pytest.approx(2 * 0.1**2 / 6, rel=0.15), "two windows of six weeks"


def test_what_has_no_query_is_split_by_its_own_position(tmp_path: Path) -> None:
    rng, days = np.random.default_rng(8), pd.date_range("2025-06-01", "2026-10-31")
    rate = {2.0: 0.16, 3.0: 0.1, 6.0: 0.04}
    rows = []
    for number in range(30):
        sunk, named = number < 3, number >= 3
        for query, size in ((f"owl {number}", 40), (f"elk {number}", 20)):
            place = np.where(sunk & (days >= "2026-06-15"), 6.0, 2.0 if number % 2 else 3.0)
            shown = rng.poisson(size, len(days))
            clicks = rng.binomial(shown, [rate[one] for one in place])
            rows.append(pd.DataFrame({"date": days, "page": f"/{number}", "query": query, "clicks": clicks, "impressions": shown,
                                      "position": place, "named": named & (query[0] == "o")}))  # fmt: skip
    pairs = pd.concat(rows)
    whole = (
        pairs.assign(position=pairs["position"] * pairs["impressions"])
        .groupby(["date", "page"], as_index=False)[["clicks", "impressions", "position"]]
        .sum()
    )
    whole.assign(position=whole["position"] / whole["impressions"]).to_csv(tmp_path / "pages.csv", index=False)
    pairs[pairs["named"]].drop(columns="named").to_csv(tmp_path / "queries.csv", index=False)
    config = make_config({"site": {"home": HOME}, "source": [{"kind": "search", "files": file} for file in ("pages.csv", "queries.csv")]})
    with nibbet.Site(config=config, root=tmp_path) as site:
        rows_of = site.compare(by="page").set_index("key")
        assert site.pages().set_index("page").loc[HOME + "0", "because"].startswith("Rank cost")
    sunk = rows_of.loc[[HOME + str(number) for number in range(3)]]
    assert (sunk["rank"] < 0.7 * sunk["change"]).all(), "no query of them is named"
    assert (sunk["pull"].abs() < 0.3 * sunk["change"].abs()).all()
    parts = rows_of[["demand", "rank", "pull", "access", "untold"]].sum(axis=1)
    assert np.allclose(parts, rows_of["change"])


def test_pull_that_a_section_lost_in_common_is_not_that_of_its_pages() -> None:
    base, kept = np.full(40, 100.0), np.where(np.arange(40) < 20, 0.55, 1.0)
    kept[20:24] = 0.5  # a few pages of the other section, by themselves
    clicks = base * kept
    pages = pd.DataFrame(
        {
            "section": ["/a/"] * 20 + ["/b/"] * 20,
            "base": base,
            "clicks": clicks,
            "pull_part": clicks - base,
            "reference_known": True,
            "taken_over": 0.0,
        }
    )
    shared = pull_lost_by_sections(pages)
    assert shared[:20].to_numpy() == pytest.approx(-np.log(0.55), rel=0.02)
    assert (shared[20:] == 0).all()
    assert (pull_lost_by_sections(pages.iloc[13:]) == 0).all(), "too few pages of the section"
    assert (pull_lost_by_sections(pages.assign(pull_part=0.0)) == 0).all()


def test_what_befell_a_whole_section_asks_no_page_for_work() -> None:
    rng, days = np.random.default_rng(5), pd.date_range("2025-06-01", "2026-10-31")
    rows = []
    for section, names in (("price", 12), ("care", 40)):
        for number in range(names):
            shown = rng.poisson(60, len(days))
            rate = np.where((section == "price") & (days >= "2026-05-01"), 0.05, 0.12)
            rows.append(pd.DataFrame({"date": days, "page": f"/{section}/owl-{number}", "query": f"owl {number} {section}",
                                      "clicks": rng.binomial(shown, rate), "impressions": shown, "position": 2.5}))  # fmt: skip
    with nibbet.Site(home=HOME, search=pd.concat(rows)) as site:
        pages = site.pages().set_index("page")
    price = pages[pages["section"] == "/price/"]
    assert not price["cause"].eq("decay").any()
    assert (
        price["because"].str.contains("the loss is pull, as on most pages of /price/: what results show beside them has changed").sum()
        >= 10
    )
    assert not pages["because"].str.contains("of /care/").any()


def test_a_page_that_another_of_the_site_replaced_is_not_refreshed() -> None:
    rng, days = np.random.default_rng(7), pd.date_range("2025-06-01", "2026-10-31")
    late, rows = days >= "2026-06-01", []

    def add(page: str, query: str, shown: object, place: object, rate: object) -> None:
        looks = rng.poisson(np.broadcast_to(np.asarray(shown, dtype=float), len(days)))
        rows.append(pd.DataFrame({"date": days, "page": page, "query": query, "impressions": looks,
                                  "clicks": rng.binomial(looks, rate), "position": place}))  # fmt: skip

    for n in range(10):
        add(f"/v2/owl-{n}", f"owl {n}", np.where(late, 4, 40), 3.0, 0.12)
        add(f"/v3/owl-{n}", f"owl {n}", np.where(late, 40, 4), 3.0, 0.12)
        add(f"/v2/auk-{n}", f"auk {n}", np.where(late, 4, 40), 3.0, 0.12)
        add(f"/v3/auk-{n}", f"auk {n}", np.where(late, 40, 0), 3.0, 0.12)
        add(f"/v3/jay-{n}", f"jay {n}", 40, np.where(late, 7.0, 2.0), np.where(late, 0.03, 0.2))
        for other in "abcd":
            add(f"/v3/tit-{n}{other}", f"tit {n} {other}", 40, 4.0, 0.09)
        add(f"/v3/rook-{n}", f"rook {n}", np.where(late, 10, 40), 4.0, 0.09)
    with nibbet.Site(home=HOME, search=pd.concat(rows)) as site:
        pages = site.pages().set_index("page")
    told = {name: pages[pages.index.str.contains(name)] for name in ("/v2/owl", "/v2/auk", "jay", "tit", "rook")}
    for bird in ("owl", "auk"):  # by a page that was there before, and by a new one
        assert not told[f"/v2/{bird}"]["cause"].eq("decay").any()
        assert told[f"/v2/{bird}"]["because"].str.contains(rf"; /v3/{bird}-\d took its place for the same queries\.$").sum() >= 9
    assert told["jay"]["cause"].eq("decay").all()
    assert told["rook"]["because"].str.contains("fewer people searched").sum() >= 9
    assert not told["tit"]["cause"].eq("decay").any()


@given(st.lists(st.tuples(st.integers(0, 4), st.integers(0, 3), st.integers(-50, 50)), min_size=1, max_size=30))
def test_others_take_no_more_than_they_gained(moves: list[tuple[int, int, int]]) -> None:
    table = pd.DataFrame(moves, columns=["page", "query", "rank"]).groupby(["page", "query"], as_index=False)["rank"].sum()
    table["query"] = table["query"].map({0: "", 1: "a", 2: "b", 3: "c"})
    found = replaced(table, table["rank"].astype(float), pd.Series(0.0, index=table.index))
    named = table[table["query"] != ""]
    lost = (-named["rank"]).clip(lower=0).groupby(named["page"]).sum()
    assert found["replaced"].between(0, 1).all()
    assert (found["replaced"] * lost).sum() <= named["rank"].clip(lower=0).sum() + 1e-9
    assert (found["replaced_by"].dropna() != found.dropna().index).all(), "no page replaces itself"


def test_what_most_pages_lost_together_is_said_once() -> None:
    pages = pd.DataFrame({"section": ["/a/"] * 10 + ["/b/"] * 30, "clicks_reference": 50.0, "verdict": "keep", "cause": ""})
    assert common_falls(pages).empty
    pages.loc[:8, ["verdict", "cause"]] = ["refresh", "decay"]
    (text,) = fell_together(pages)
    assert text.startswith("9 of 10 pages of /a/ fell by more than demand")
    pages.loc[:35, ["verdict", "cause"]] = ["refresh", "decay"]
    assert common_falls(pages).to_numpy().tolist() == [["", 40, 36]]
    assert common_falls(pages.assign(clicks_reference=float("nan"))).empty
