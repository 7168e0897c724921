"""Curve, pull, change and split against what they must give."""

from __future__ import annotations

from datetime import date, timedelta

import ibis
import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import nibbet
from nibbet.core.change import change
from nibbet.core.curve import SEGMENT, learn_curve
from nibbet.core.pull import false_discovery, shrunk_pull, too_low_p, weighted_position
from nibbet.core.reduce import ALWAYS, windowed
from nibbet.core.sections import sections_of
from nibbet.core.split import ASSUMPTION, row_parts, split
from nibbet.core.tables import PARTS
from nibbet.core.windows import Window, last_complete_day, last_complete_period, make_windows, weekday_scale


def _cells(rng: np.random.Generator, pages: int = 300) -> tuple[pd.DataFrame, np.ndarray]:
    """A site whose true CTR is 0.3 x position^-1.2, pages differing by a factor around 1."""
    page, bins = np.meshgrid(np.arange(pages), np.arange(0, 32), indexing="ij")
    shown = rng.poisson(rng.lognormal(3.5, 1.0, page.shape))
    true = 0.3 * np.exp(-1.2 * (bins + 0.5) / 10)
    rate = np.clip(true * rng.lognormal(-0.02, 0.2, (pages, 1)), 0, 1)
    cells = pd.DataFrame(
        {"page": page.ravel(), "bin": bins.ravel(), "impressions": shown.ravel(), "clicks": rng.binomial(shown, rate).ravel()}
    )
    return cells.assign(device="mobile", surface="web", brand=False), true[0]


def test_curve_falls_and_comes_near_the_truth() -> None:
    cells, true = _cells(np.random.default_rng(2))
    curve = learn_curve(cells)
    rates = curve.rates.set_index("bin")["rate"]
    assert curve.learnt
    assert (np.diff(rates) <= 1e-12).all()
    assert np.abs(rates.loc[:30] / true[:31] - 1).mean() < 0.05
    rated = cells.merge(curve.rates[[*SEGMENT, "bin", "rate"]], on=[*SEGMENT, "bin"], validate="m:1")
    assert (rated["impressions"] * rated["rate"]).sum() == pytest.approx(cells["clicks"].sum(), rel=0.03)


def test_curve_of_a_tiny_site_says_that_it_leans_on_a_general_shape() -> None:
    cells = pd.DataFrame({"page": [1], "bin": [3], "impressions": [10], "clicks": [1], "device": "", "surface": "", "brand": False})
    curve = learn_curve(cells)
    assert not curve.learnt
    assert (np.diff(curve.rates["rate"]) <= 1e-12).all()


def test_pull_is_drawn_to_one_where_little_is_expected() -> None:
    pull = shrunk_pull(np.array([0.0, 50.0, 3.0]), np.array([0.5, 100.0, 0.0]))
    assert 0.9 < pull[0] < 1
    assert pull[1] == pytest.approx(0.5, abs=0.1)
    assert np.isnan(pull[2])


def test_flags_for_pages_chosen_too_seldom_keep_their_false_discovery() -> None:
    rng = np.random.default_rng(8)
    expected = rng.lognormal(4, 1, 4000)
    bad = rng.random(4000) < 0.1
    mean = expected * np.where(bad, 0.35, 1.0) * rng.lognormal(0, 0.15, 4000)
    q = false_discovery(too_low_p(rng.poisson(mean).astype(float), expected, below=0.7))
    flagged = q < 0.05
    assert (flagged & ~bad).sum() / max(flagged.sum(), 1) < 0.07
    assert (flagged & bad & (expected > 50)).sum() / (bad & (expected > 50)).sum() > 0.6


def test_change_is_real_only_beyond_noise_and_its_interval_holds_it() -> None:
    rng = np.random.default_rng(4)
    mean = rng.lognormal(4.5, 1, 3000)
    truth = np.where(rng.random(3000) < 0.1, 0.4, 1.0)
    wander = lambda: rng.lognormal(0, 0.06, 3000)  # noqa: E731
    recent, before = rng.poisson(mean * truth * wander()), rng.poisson(mean * wander())
    found = change(recent.astype(float), before.astype(float), scale=1.0)
    flagged = found["change_real"].to_numpy()
    assert (flagged & (truth == 1)).sum() / max(flagged.sum(), 1) < 0.07
    assert flagged[(truth < 1) & (mean > 60)].mean() > 0.9
    same = truth == 1
    inside = (found["change_low"] <= 0) & (found["change_high"] >= 0)
    assert 0.92 < inside[same].mean() <= 1.0
    assert found["change"].sum() == recent.sum() - before.sum()


counts = st.integers(0, 5000)


@given(
    st.lists(
        st.tuples(st.integers(0, 3), counts, counts, st.floats(1, 60), st.floats(1, 60), st.floats(0, 0.5), st.floats(0, 0.5)),
        min_size=1,
        max_size=15,
    ),
    st.lists(st.tuples(counts, counts), min_size=4, max_size=4),
)
def test_the_parts_of_a_change_add_up(rows: list[tuple[int, int, int, float, float, float, float]], clicks: list[tuple[int, int]]) -> None:
    pairs = pd.DataFrame(
        rows, columns=["page", "impressions", "impressions_reference", "position", "position_reference", "rate", "rate_reference"]
    )
    pairs["query"] = range(len(pairs))
    pairs["expected_clicks"] = pairs["impressions"] * pairs["rate"]
    pairs["expected_clicks_reference"] = pairs["impressions_reference"] * pairs["rate_reference"]
    pages = pd.DataFrame(clicks, columns=["clicks_recent", "clicks_reference"]).assign(page=range(4))
    parts = split(row_parts(pairs, ASSUMPTION), pairs["page"], pages)
    total = parts[PARTS].sum(axis=1)
    assert np.allclose(total, pages["clicks_recent"] - pages["clicks_reference"], atol=1e-6)


@pytest.mark.parametrize(
    ("cause", "impressions", "position", "clicks"), [("demand", 500, 3.0, 50), ("rank", 1000, 8.0, 30), ("pull", 1000, 3.0, 50)]
)
def test_a_single_cause_gets_the_change(cause: str, impressions: int, position: float, clicks: int) -> None:
    rate = {3.0: 0.1, 8.0: 0.03}
    pairs = pd.DataFrame(
        {
            "page": [0],
            "query": ["paddle"],
            "impressions": [impressions],
            "impressions_reference": [1000],
            "position": [position],
            "position_reference": [3.0],
            "expected_clicks": [impressions * rate[position]],
            "expected_clicks_reference": [100.0],
        }
    )
    totals = pd.DataFrame({"page": [0], "clicks_recent": [clicks], "clicks_reference": [100]})
    parts = split(row_parts(pairs, ASSUMPTION), pairs["page"], totals).iloc[0]
    assert parts[cause] / (clicks - 100) > 0.9


def test_impressions_lost_by_sinking_out_of_sight_are_rank() -> None:
    pairs = pd.DataFrame(
        {
            "page": [0],
            "query": ["paddle"],
            "impressions": [300],
            "impressions_reference": [1000],
            "position": [20.5],
            "position_reference": [4.0],
            "expected_clicks": [1.5],
            "expected_clicks_reference": [70.0],
        }
    )
    totals = pd.DataFrame({"page": [0], "clicks_recent": [2], "clicks_reference": [70]})
    parts = split(row_parts(pairs, ASSUMPTION), pairs["page"], totals).iloc[0]
    assert parts["rank"] / -68 > 0.9


def test_position_is_weighted_never_averaged() -> None:
    rows = pd.DataFrame({"position": [1.0, 30.0], "impressions": [99, 1]})
    position = weighted_position(pd.Series([(rows["position"] * rows["impressions"]).sum()]), pd.Series([rows["impressions"].sum()]))
    assert position.iloc[0] == pytest.approx(1.29)


def test_newest_partial_days_are_found_and_a_weekend_is_not_one() -> None:
    days = pd.DataFrame({"date": pd.date_range("2026-08-01", "2026-10-25")})
    days["impressions"] = np.where(days["date"].dt.day_of_week >= 5, 400, 1000)
    assert last_complete_day(days) == date(2026, 10, 25), "a Sunday is low but whole"
    fell = days.assign(impressions=np.where(days.index >= len(days) - 7, 0.55, 1) * days["impressions"])
    assert last_complete_day(fell) == date(2026, 10, 25), "a week that is poor throughout is a change"
    days.loc[days.index[-2:], "impressions"] = [180, 20]
    assert last_complete_day(days) == date(2026, 10, 23)
    assert last_complete_day(fell.assign(impressions=fell["impressions"].where(fell.index < len(fell) - 1, 30))) == date(2026, 10, 24)


@pytest.mark.parametrize(("months", "delivered", "whole"), [(15, 0.5, False), (15, 1.0, True), (4, 0.5, False), (4, 1.0, True)])
@pytest.mark.parametrize("peak", [12, 6])
def test_a_month_is_judged_at_its_season(months: int, delivered: float, whole: bool, peak: int) -> None:
    """Half of a November before Christmas has hardly less than an October; the whole of one after summer has much less."""
    ends = pd.date_range(end="2026-11-30", periods=months, freq="ME")
    season = np.exp(0.9 * np.cos(2 * np.pi * (ends.month.to_numpy() - peak) / 12))
    table = pd.DataFrame({"date": ends, "impressions": 9000 * season * np.r_[np.ones(months - 1), delivered]})
    judged = last_complete_period(table) == date(2026, 11, 30)
    assert judged == (whole if months > 12 else table["impressions"].iloc[-1] >= 0.7 * table["impressions"].iloc[-4:-1].median())


def test_a_site_that_lives_of_its_news_has_poor_days_that_are_complete() -> None:
    rng, late = np.random.default_rng(8), []
    dates = pd.date_range("2025-10-01", "2026-10-25")
    for _ in range(40):
        bursts = np.convolve(rng.random(len(dates)) < 0.07, np.exp(-np.arange(14) / 4))[: len(dates)]
        days = pd.DataFrame({"date": dates, "impressions": rng.poisson(2_000 * (1 + 2 * bursts) * rng.lognormal(0, 0.12, len(dates)))})
        late.append(last_complete_day(days) < date(2026, 10, 25))
        days.loc[days.index[-1], "impressions"] //= 20
        assert last_complete_day(days) <= date(2026, 10, 24)
    assert np.mean(late) <= 0.1


def test_windows_hold_the_same_calendar_dates_a_year_before() -> None:
    windows = make_windows(date(2025, 6, 1), date(2026, 10, 31), recent=90, long=365, reference=None)
    assert (windows.reference.start, windows.reference.end, windows.reference_kind) == (date(2025, 8, 3), date(2025, 10, 31), "year")
    short = make_windows(date(2026, 1, 1), date(2026, 10, 31), recent=90, long=365, reference=None)
    assert (short.reference.start, short.reference.end, short.reference_kind) == (date(2026, 5, 5), date(2026, 8, 2), "before")
    days = pd.DataFrame({"date": pd.date_range("2025-06-01", "2026-10-31")})
    days["clicks"] = np.where(days["date"].dt.day_of_week >= 5, 10, 100)
    truth = days[windows.recent.holds(days["date"])]["clicks"].sum() / days[windows.reference.holds(days["date"])]["clicks"].sum()
    assert weekday_scale(days, windows.recent, windows.reference) == pytest.approx(truth)


@given(
    st.lists(st.tuples(st.integers(0, 3), st.integers(0, 40), st.integers(0, 60), st.integers(0, 4000)), min_size=1, max_size=40),
    st.lists(st.tuples(st.integers(-5, 45), st.integers(0, 30)), min_size=1, max_size=4),
)
@pytest.mark.slow
def test_sums_by_stretches_are_the_sums_of_the_windows(rows: list[tuple[int, int, int, int]], spans: list[tuple[int, int]]) -> None:
    table = pd.DataFrame(rows, columns=["page", "day", "clicks", "eighths"])
    table = table.assign(date=pd.Timestamp("2026-08-01") + pd.to_timedelta(table["day"], unit="D"), place=table["eighths"] / 8)
    start = date(2026, 8, 1)
    windows = {f"w{n}": Window(start + timedelta(a), start + timedelta(a + length)) for n, (a, length) in enumerate(spans)}
    given = ibis.memtable(table[["page", "date", "clicks", "place"]]).mutate(date=ibis._.date.cast("date"))
    wanted = {"all": (ALWAYS, ("clicks",)), **{name: (window, ("clicks", "place")) for name, window in windows.items()}}
    found = ibis.duckdb.connect().execute(windowed(given, wanted, ["page"], first=given.date)).set_index("page").sort_index()
    for name, (window, measures) in wanted.items():
        inside = table if window == ALWAYS else table[window.holds(table["date"])]
        for measure in measures:
            expected = inside.groupby("page")[measure].sum().reindex(found.index, fill_value=0)
            assert found[f"{measure}_{name}"].tolist() == expected.tolist()
    assert pd.to_datetime(found["first"]).tolist() == table.groupby("page")["date"].min().tolist()


def test_sections_are_the_folders_that_tell_pages_apart() -> None:
    def sections(*paths: str, host: str = "") -> set[str]:
        pages = pd.Series(paths, dtype="str")
        return set(sections_of(pages, pd.Series(host, index=pages.index, dtype="str")))

    guides, shop = ([f"{{0}}/{name}/{number}" for number in range(12)] for name in ("guides", "shop"))
    in_english, in_german, plain = ([path.format(start) for path in guides + shop] for start in ("/en", "/de-at", ""))
    assert sections("/", "/en/", "/en/about", *in_english) == {"/", "/en/", "/en/guides/", "/en/shop/"}
    assert sections("/", *plain, *in_german) == {"/", "/guides/", "/shop/", "/de-at/guides/", "/de-at/shop/"}
    assert sections(*(f"/site/web{path}" for path in plain), host="www") == {"www/site/web/guides/", "www/site/web/shop/"}
    assert sections(*(f"/blog/{year}/{path}" for year in (2024, 2025) for path in range(20))) == {"/blog/"}, "a year is no subject"
    assert sections(*(f"/shop/lamp-{number}/" for number in range(30)), "/about/us") == {"/shop/", "/about/"}
    assert sections(*plain) == {"/guides/", "/shop/"}
    assert sections() == set()


def test_pages_of_a_section_where_ctr_is_low_throughout_are_compared_with_each_other() -> None:
    rng, days = np.random.default_rng(8), pd.date_range("2025-09-01", "2026-10-31")
    rows = []
    for section, names, rate in (("answers", 14, 0.06), ("care", 40, 0.13)):
        for number in range(names):
            shown, poor = rng.poisson(60, len(days)), 0.35 if number == 3 else 1.0
            rows.append(pd.DataFrame({"date": days, "page": f"/en/{section}/owl-{number}", "query": f"owl {number} {section}", "position": 2.5,
                                      "clicks": rng.binomial(shown, rate * poor), "impressions": shown}))  # fmt: skip
    with nibbet.Site(home="https://owls.example", search=pd.concat(rows)) as site:
        pages, openings = site.pages(), site.openings()
    poor = pages[pages["cause"] == "snippet"]
    assert poor["page"].str.endswith("owl-3").all()
    assert len(poor) == 2
    assert poor["because"].str.contains(r", where (?:/en/answers/|this site) usually has 1?[3-6]\.\d%").all()
    other = pages[pages["section"].eq("/en/answers/") & pages["cause"].ne("snippet")]
    assert other["because"].str.contains(r"pages of /en/answers/ have (?:4[0-9]|5[0-2])% of the CTR of others").all()
    assert set(openings.loc[openings["kind"] == "snippet", "query"]) == {"owl 3 answers", "owl 3 care"}
