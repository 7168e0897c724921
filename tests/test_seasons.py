"""Seasons of sections and pages, and events that are over."""

from __future__ import annotations

from datetime import date

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.core.life import events_of_pages
from nibbet.core.season import annual_index, page_waves, season_calendar, weekend_shares
from nibbet.core.split import ASSUMPTION, PLACES, learn_sight
from nibbet.core.standing import learn_standing

HOME = "https://tarnbrook.example/"
DAYS = pd.date_range("2025-07-01", "2026-10-31")


def wave(peak: int, strength: float) -> np.ndarray:
    """Days: an annual wave with its peak on that day of the year."""
    return np.exp(strength * np.cos(2 * np.pi * (DAYS.day_of_year.to_numpy() - peak) / 365.25))


def weekly(table: np.ndarray) -> np.ndarray:
    """Rows x whole weeks up to the last day."""
    weeks = table.shape[1] // 7
    return table[:, -7 * weeks :].reshape(len(table), weeks, 7).sum(axis=2)


def test_a_winter_and_a_summer_peak_both_stand() -> None:
    rng = np.random.default_rng(3)
    both = 40 * (np.exp(3 * np.cos(2 * np.pi * (DAYS.day_of_year.to_numpy() - 15) / 365.25) - 3) * 4 + wave(195, 0.9))
    rows = {"/both/": both, "/summer/": 60 * wave(200, 0.7), "/level/": np.full(len(DAYS), 80.0)}
    ends = DAYS[-1] - pd.to_timedelta(7 * np.arange(len(DAYS) // 7)[::-1], unit="D")
    weeks = pd.concat(
        [pd.DataFrame({"section": name, "end": ends, "clicks": weekly(rng.poisson(one)[None])[0]}) for name, one in rows.items()]
    )
    found = season_calendar(annual_index(weeks), date(2026, 10, 31))
    peaks = {found.loc["/both/", name].month for name in ("peak", "second_peak")}
    assert peaks & {1}
    assert peaks & {6, 7, 8}
    assert found.loc["/summer/", "peak"].month == 7
    assert pd.isna(found.loc["/summer/", "second_peak"])
    assert pd.isna(found.loc["/level/", "peak"])
    assert (found["ready_by"] < found["begins"])[found["peak"].notna()].all()


def test_pages_with_a_season_of_their_own_are_told_from_their_section() -> None:
    rng = np.random.default_rng(4)
    own = np.arange(120) < 12
    mean = (
        rng.uniform(4, 20, 120)[:, None] * np.where(own[:, None], wave(15, 1.5), wave(195, 0.5)) * rng.gamma(30, 1 / 30, (120, len(DAYS)))
    )
    clicks = weekly(rng.poisson(mean))
    ends = pd.DatetimeIndex(DAYS[-1] - pd.to_timedelta(7 * np.arange(clicks.shape[1])[::-1], unit="D"))
    section = pd.Series("/a/", index=range(120))
    annual = annual_index(pd.DataFrame({"section": "/a/", "end": ends, "clicks": clicks[~own].sum(axis=0)}))
    waves, is_own = page_waves(clicks, section, ends, annual)
    assert is_own[own].mean() >= 0.9
    assert is_own[~own].mean() <= 0.06
    calendar = season_calendar(waves, date(2026, 10, 31))
    assert calendar["peak"][own & is_own].dt.month.isin([12, 1, 2]).all()
    late = clicks.copy()
    late[~own, :30] = 0  # half a year and more has passed without them
    late[own, :10] = 0
    told = page_waves(late, section, ends, annual)[1]
    assert not told[~own].any(), "a start is no season"
    assert told[own].mean() >= 0.8, "a year is enough"
    short = annual_index(pd.DataFrame({"section": "/a/", "end": ends[:30], "clicks": clicks[:, :30].sum(axis=0)}))
    assert not page_waves(clicks[:, :30], section, ends[:30], short)[1].any()


def test_events_end_and_seasons_do_not() -> None:
    rng = np.random.default_rng(5)
    level = np.full((5, len(DAYS)), 0.05)
    level[0, 60:75] = 40.0  # two weeks of news, long ago
    level[1] = 5 * wave(15, 3.0)  # deep winter
    level[2, -20:] = 30.0  # still going on
    level[3] = 6.0
    level[4, 60:75] = 40.0
    level[4, 75:] = 8.0  # news that left readers behind
    found = events_of_pages(weekly(rng.poisson(level)), np.zeros(5, dtype=np.int64))
    assert found["event"].tolist() == [True, False, False, False, False]
    assert found.loc[0, "last"] - found.loc[0, "first"] <= 2
    assert found.loc[0, "share"] >= 0.7
    late, again = np.full((2, len(DAYS)), 0.05), len(DAYS) - 75
    late[:, again : again + 20] = 30.0
    for start, sure in ((0, True), (10, False), (again // 7 - 30, False), (again // 7 - 3, True)):
        assert events_of_pages(weekly(rng.poisson(late)), np.full(2, start))["sure"].eq(sure).all(), start
    assert not events_of_pages(weekly(rng.poisson(level))[:, 5:60], np.zeros(5, dtype=np.int64))["sure"].any(), (
        "the same weeks of another year are missing"
    )
    assert not events_of_pages(weekly(rng.poisson(level))[:, :10], np.zeros(5, dtype=np.int64))["event"].any()


def test_a_page_about_an_event_that_is_over_is_no_decay() -> None:
    rng = np.random.default_rng(6)
    names = ["event", *(f"p{n}" for n in range(30))]
    level = np.concatenate([np.full((1, len(DAYS)), 0.3), rng.uniform(4, 15, (30, 1)) * np.ones((1, len(DAYS)))])
    level[0, (DAYS >= "2025-08-20") & (DAYS < "2025-09-10")] = 60.0
    rows = pd.DataFrame(rng.poisson(level).T, index=DAYS, columns=names).rename_axis("date").reset_index().melt("date", value_name="clicks")
    rows = rows[rows["clicks"] > 0].assign(position=2.0)
    rows = rows.assign(impressions=rows["clicks"] * 6, page=HOME + "a/" + rows["variable"], query="about " + rows["variable"])
    with nibbet.Site(home=HOME, search=rows.drop(columns="variable")) as site:
        page = site.pages().set_index("page").loc[HOME + "a/event"]
        change = site.compare(by="page").set_index("key").loc[HOME + "a/event"]
        trend = site.trends().set_index("page").loc[HOME + "a/event"]
    assert (page["verdict"], page["cause"]) == ("keep", "event over")
    assert "that event is over" in page["because"]
    assert change["why"] == "demand"
    assert change["demand"] / change["change"] > 0.9
    assert trend["event_from"] <= pd.Timestamp("2025-08-25")
    assert trend["event_to"] >= pd.Timestamp("2025-09-05")


def test_how_far_searchers_look_is_told_by_searches() -> None:
    rng = np.random.default_rng(7)
    place = np.exp(rng.uniform(0.2, 3.3, 1500))
    true = np.where(place <= 10, 1.0, np.exp(-(place - 10) / 6))
    demand = rng.lognormal(6.5, 0.6, 1500)
    shown = rng.poisson(demand * 0.8 * true * np.exp(rng.normal(0, 0.3, 1500)))
    pairs = pd.DataFrame({"query": [f"q{n}" for n in range(1500)], "impressions": shown, "position": place, "demand": demand})
    pairs = pairs.assign(impressions_reference=shown, position_reference=place)
    looks = learn_sight(pairs)
    for position, wanted in ((8.0, 1.0), (15.0, 0.43), (20.0, 0.19)):
        assert looks.share(np.array([position]))[0] == pytest.approx(wanted, abs=0.15)
    blind = learn_sight(pairs.drop(columns="demand"))
    assert np.allclose(blind.log_share, ASSUMPTION.log_share, atol=0.2)
    assert len(looks.log_share) == len(PLACES)
    assert learn_sight(pairs.head(20)) is ASSUMPTION


def test_good_places_are_not_taken_from_the_best_alone() -> None:
    rng = np.random.default_rng(8)
    place = np.exp(rng.normal(np.log(4.0), 0.5, 4000))
    shown = np.exp(rng.normal(np.log(300), 1.0, 4000))
    clicks = shown * 0.3 / place  # few clicks may mean little demand or a low place
    pages = pd.DataFrame({"position_answered": place, "impressions_answered": shown, "clicks_answered": clicks, "expected_answered": clicks, "trend": None})  # fmt: skip
    pages = pages.assign(clicks_titled=clicks, expected_titled=clicks)
    found = learn_standing(pages, below=5.5)
    seen = float(np.median(place[place < 5.5]))
    assert seen < 3.5
    assert found.place == pytest.approx(4.0, rel=0.06)
    assert found.spread == pytest.approx(0.5, rel=0.1)
    assert learn_standing(pages.head(5), below=5.5).place == 3.0


def test_pages_with_weekdays_of_their_own_are_told_from_their_section() -> None:
    rng, named = np.random.default_rng(9), []
    for _ in range(5):
        clicks = np.round(rng.lognormal(6.0, 0.8, 400))
        true = np.exp(rng.normal(np.log(0.8), 0.05, 400))
        true[:10] = 1.6  # of trips, planned at the weekend
        weekend = rng.binomial(clicks.astype(int), np.clip(true * 2 / 7, 0, 1)).astype(float)
        values, own = weekend_shares(clicks, weekend, np.full(400, 0.8), 2 / 7)
        assert own[:10].mean() >= 0.8
        named.append(own[10:].mean())
        assert np.abs(values - true)[clicks > 300].mean() < 0.08
    assert np.mean(named) < 0.01
    none, own = weekend_shares(np.zeros(3), np.zeros(3), np.ones(3), 2 / 7)
    assert np.isnan(none).all()
    assert not own.any()
    days = pd.DataFrame({"date": DAYS.repeat(2), "page": [HOME + "a/trip", HOME + "a/work"] * len(DAYS)})
    late = days["date"].dt.day_of_week >= 5
    days["clicks"] = np.where(days["page"].str.endswith("trip") == late, 8, 2)
    with nibbet.Site(home=HOME, search=days.assign(impressions=100, position=3.0)) as site:
        seasons = site.seasons().set_index("key")
    assert seasons.loc[HOME + "a/trip", "weekend"] > 1.5 > 0.8 > seasons.loc[HOME + "a/work", "weekend"]
    assert seasons.loc[[HOME + "a/trip", HOME + "a/work"], "weekdays"].tolist() == ["own", "own"]
