"""Every measure on made-up sites with planted truth: the fast form of benchmarks/measures.py, on seeds that were not used while building."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks"))

import measures
from scipy.special import ndtr
from worlds import weeks_of_pages

from nibbet.core.decline import lasting_changes, trends
from nibbet.core.pull import false_discovery
from nibbet.core.sunk import sunk

SEEDS = range(7001, 7007)


def means(trial: object, **given: object) -> pd.Series:
    return pd.DataFrame([trial(seed, **given) for seed in SEEDS]).mean()  # type: ignore[operator]


@pytest.mark.slow
def test_declines_keep_their_false_discovery_and_find_what_can_be_found() -> None:
    found = means(measures.declines, pages=12_000)
    assert found["false"] <= 0.06
    assert (found.filter(like="clicks a week") <= 0.06).all()
    assert found["power 20 clicks, -70%"] >= 0.95
    assert found["power 20 clicks, -50%"] >= 0.55
    assert found["power 5 clicks, -70%"] >= 0.80
    assert found["onset within a week, of these"] >= 0.80
    assert found["short dips called"] <= 0.02
    assert found["season called"] <= 0.05
    assert found["plain rule: false"] > 0.5, "the world is hard enough to mislead the usual rule"


@pytest.mark.parametrize("kind", ["year", "before"])
def test_changes_are_real_and_their_intervals_hold_the_truth(kind: str) -> None:
    found = means(measures.changes, pages=4_000, kind=kind)
    assert found["false"] <= 0.07
    assert 0.93 <= found["95% intervals hold the truth"] <= 0.97
    assert 0.92 <= found["of them under 30 clicks"] <= 0.975
    assert found["power over 100 clicks, 50% and more"] >= 0.7
    assert found["plain rule: false"] > 0.3


def test_the_change_goes_to_its_cause_even_out_of_sight() -> None:
    found = means(measures.splits, pages=2_000)
    assert found["parts miss of the change"] < 1e-9
    for cause in ("demand", "rank", "pull"):
        assert found[f"{cause} to {cause}"] >= 0.9


@pytest.mark.parametrize(("noise", "power"), [(0.4, 0.30), (0.25, 0.60)])
def test_the_curve_is_near_and_titles_are_flagged_with_few_false_alarms(noise: float, power: float) -> None:
    found = means(measures.pulls, pages=3_000, noise=noise)
    assert found["curve error, positions 1 to 30"] <= 0.05
    assert found["row expectation error"] <= 0.025
    assert found["false"] <= 0.07
    assert found["power at 0.4 with 100 clicks expected"] >= power
    assert found["plain rule: false (below the site's CTR)"] > 0.5


def test_a_page_with_a_season_of_its_own_has_not_declined() -> None:
    rng = np.random.default_rng(5)
    weeks, level = 70, np.full(400, 40.0)
    wave = np.ones((400, weeks))
    wave[:20] = np.exp(1.3 * np.cos(2 * np.pi * (np.arange(weeks) - weeks + 26) / 52.18))  # their low season ends the data
    wave[20:40, 40:] = 0.3  # these have truly fallen
    clicks = rng.poisson(level[:, None] * wave * rng.gamma(25, 1 / 25, wave.shape))
    real = lasting_changes(clicks, np.zeros(400, dtype=np.int64))["real"].to_numpy(bool)
    assert real[:20].mean() <= 0.1
    assert real[20:40].mean() >= 0.9
    assert not real[40:].any()


def test_falls_of_steady_pages_are_found_beside_pages_that_come_in_bursts() -> None:
    """Guides and topics of the day: the bursts of one half are not the noise of the other."""
    called = []
    for seed in range(8):
        rng, time = np.random.default_rng(seed), np.arange(74)
        at = rng.integers(0, 74, (40, 3))
        bursts = np.exp(-np.abs(time - at[:, :, None]) / 1.5).sum(axis=1) * rng.lognormal(4, 0.6, (40, 1))
        guides = np.full((24, 74), 80.0) * np.where((time >= 54) & (np.arange(24)[:, None] < 3), 0.22, 1.0)
        changes = trends(
            rng.poisson(np.vstack([guides, bursts])),
            np.zeros(64, np.int64),
            np.zeros(64, np.int64),
            pd.date_range("2025-06-22", periods=74, freq="W"),
        )
        called.append(changes["real"].to_numpy(bool))
    real = np.array(called)
    assert real[:, :3].all(), "each fall by 78%"
    assert not real[:, 3:24].any()


def test_falls_of_the_busiest_pages_of_a_small_site_are_no_common_movement() -> None:
    rng, weeks = np.random.default_rng(8), 68
    level = np.concatenate([np.full(40, 25.0), rng.uniform(1.0, 6.0, 240)])  # the busiest 40 fall, and few others are busy
    season = 1 + 0.5 * np.sin(2 * np.pi * np.arange(weeks) / 52)
    fallen = np.where((np.arange(280) < 40)[:, None] & (np.arange(weeks) >= 44), 0.2, 1.0)
    found = lasting_changes(rng.poisson(level[:, None] * season * fallen), np.zeros(280, dtype=np.int64))["real"].to_numpy(bool)
    assert found[:40].all()
    assert found[40:].sum() <= 2, "5% of those called"


def test_new_pages_are_held_against_how_pages_start_here() -> None:
    rng = np.random.default_rng(6)
    weeks, pages = 70, 300
    began = np.where(np.arange(pages) < 150, 0, rng.integers(5, 62, pages))
    began[-2:] = 62
    age = np.arange(weeks)[None, :] - began[:, None]
    rate = 30.0 * np.where(began[:, None] > 0, np.clip((age + 1) / 12, 0, 1), 1.0)
    rate[-2], rate[-1] = rate[-2] * 0.1, rate[-1] * 4
    clicks = rng.poisson(rate)
    ends = pd.date_range("2025-07-06", periods=weeks, freq="7D")
    found = trends(clicks, np.zeros(pages, dtype=np.int64), began, ends)
    assert not found["real"][:-2].any(), "the weeks until a page has come to its level are no rise"
    assert found["start_rank"].iloc[-2] < 0.1
    assert found["start_rank"].iloc[-1] > 0.9
    assert found["start_rank"][:150].isna().all()


def test_a_short_history_says_nothing() -> None:
    clicks, truth = weeks_of_pages(np.random.default_rng(1), 50, weeks=20)
    assert not lasting_changes(clicks[:, :9], truth["section"].to_numpy())["real"].any()
    assert lasting_changes(clicks[:0], truth["section"].to_numpy()[:0]).empty


@pytest.mark.parametrize("weeks", [26, 70, 260])
def test_chance_is_called_lasting_as_rarely_however_long_the_history(weeks: int) -> None:
    called = 0
    for seed in range(20):
        random = np.random.default_rng(1000 * weeks + seed)
        rate = 6 * random.lognormal(0, 0.6, 1500)
        clicks = random.poisson(rate[:, None] * np.exp(0.15 * random.standard_normal((1500, weeks))))
        called += lasting_changes(clicks, np.zeros(1500, dtype=np.int64))["real"].any()
    assert called <= 3, "of 20 sites on which nothing happened, one in twenty may be told that something did"


def test_single_weeks_of_a_small_site_that_vary_tell_no_lasting_change() -> None:
    called = 0
    for seed in range(20):
        random = np.random.default_rng(seed)
        season = 1 + 0.5 * np.sin(2 * np.pi * np.arange(40) / 52 + 1)
        rate = 1.5 * random.lognormal(0, 1, 300)[:, None] * season * np.exp(0.3 * random.standard_normal((300, 40)))
        called += lasting_changes(random.poisson(rate), random.integers(0, 4, 300))["real"].any()
    assert called <= 3, "of 20 sites on which nothing happened"


def test_places_tell_a_fall_that_few_clicks_cannot_and_call_no_wandering_one() -> None:
    """Pages of 40 clicks: a sixth sank by two fifths; places wander by 0.15, and the curve is a fifth too steep."""
    rng, pages = np.random.default_rng(11), 3_000
    fallen = rng.random(pages) < 1 / 6
    true = np.log(0.6) * fallen + rng.normal(0, 0.15, pages)
    clicks, before = rng.poisson(40 * np.exp(true)), rng.poisson(40, pages)
    by_rank = true * 1.25
    by_pull = np.log((clicks + 0.5) / (before + 0.5)) - by_rank
    counting = 1 / (clicks + 0.5) + 1 / (before + 0.5)
    loss, p_value = sunk(by_rank, by_pull, counting, np.full(pages, True))
    by_places, by_clicks = (false_discovery(p) < 0.05 for p in (p_value, ndtr((by_rank + by_pull) / np.sqrt(counting + 0.15**2))))
    assert by_places[fallen].mean() > 0.65 > 3 * by_clicks[fallen].mean()
    assert (by_places & ~fallen).sum() <= 0.07 * by_places.sum()
    assert loss[fallen].mean() == pytest.approx(-np.log(0.6), abs=0.06)
    assert (sunk(by_rank[:10], by_pull[:10], counting[:10], np.full(10, True))[1] == 1).all(), "too few pages to know how far places wander"
