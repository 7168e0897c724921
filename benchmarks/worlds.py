"""Made-up sites with known truth, on which the measures are tried: what really changed is planted, and never told to the measures."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def wander(rng: np.random.Generator, rows: int, steps: int, spread: float, memory: float) -> Floats:
    """Rows x steps of a slow random drift around 0 (an autoregression) with this spread."""
    keep = np.exp(-1 / memory)
    moves = rng.normal(0, spread * np.sqrt(1 - keep * keep), (rows, steps)).astype(np.float32)
    moves[:, 0] = rng.normal(0, spread, rows)
    for step in range(1, steps):
        moves[:, step] += keep * moves[:, step - 1]
    return moves


def weeks_of_pages(rng: np.random.Generator, pages: int, *, weeks: int = 70, sections: int = 30) -> tuple[NDArray[np.int32], pd.DataFrame]:
    """Clicks (pages x weeks), and what is true of each page: section, level (clicks a week), case, left (share that stays), onset.

    Sections have an annual wave and wander; pages drift and stray from week to week; cases are steady, collapse, slow (falls over 10
    weeks), dip (a few weeks, then back), spike, seasonal (a wave of its own section's kind, but twice as strong is not planted: none).
    """
    section = rng.integers(0, sections, pages)
    level = rng.lognormal(2.3, 1.2, pages)
    time = np.arange(weeks)
    wave = np.exp(rng.uniform(0, 0.9, (sections, 1)) * np.cos(2 * np.pi * (time[None, :] - rng.uniform(0, 52, (sections, 1))) / 52.18))
    common = wave * np.exp(wander(rng, sections, weeks, 0.12, 12))
    case = rng.choice(["steady", "collapse", "slow", "dip", "spike"], pages, p=[0.82, 0.07, 0.03, 0.05, 0.03])
    left = np.where(np.isin(case, ["collapse", "slow"]), rng.choice([0.3, 0.5, 0.7], pages), 1.0)
    onset = rng.integers(12, weeks - 4, pages)
    long = np.where(case == "slow", 10, 1)
    fallen = np.clip((time[None, :] - onset[:, None] + 1) / long[:, None], 0, 1) * (left < 1)[:, None]
    effect = 1 - (1 - left)[:, None] * fallen
    inside = (time[None, :] >= onset[:, None]) & (time[None, :] < (onset + rng.integers(2, 5, pages))[:, None])
    dipped = inside & (onset + 6 < weeks)[:, None]
    effect = np.where(dipped & (case == "dip")[:, None], 0.35, effect)
    effect = np.where(dipped & (case == "spike")[:, None], 5.0, effect)
    mean = level[:, None] * common[section] * np.exp(wander(rng, pages, weeks, 0.12, 20)) * effect
    clicks = rng.poisson(mean * rng.gamma(16.0, 1 / 16.0, mean.shape)).astype(np.int32)
    return clicks, pd.DataFrame({"section": section, "level": level, "case": case, "left": left, "onset": onset})


def seasonal_pages(rng: np.random.Generator, pages: int, *, weeks: int = 70, sections: int = 12) -> tuple[NDArray[np.int32], pd.DataFrame]:
    """As `weeks_of_pages`, of sections with a strong annual wave whose trough ends the data, and nothing planted: no page declines."""
    section = rng.integers(0, sections, pages)
    level = rng.lognormal(3.0, 0.9, pages)
    time = np.arange(weeks)
    wave = np.exp(
        rng.uniform(0.4, 1.2, (sections, 1)) * -np.cos(2 * np.pi * (time[None, :] - weeks + rng.uniform(0, 8, (sections, 1))) / 52.18)
    )
    mean = level[:, None] * wave[section] * np.exp(wander(rng, sections, weeks, 0.12, 12))[section]
    mean = mean * np.exp(wander(rng, pages, weeks, 0.12, 20))
    clicks = rng.poisson(mean * rng.gamma(16.0, 1 / 16.0, mean.shape)).astype(np.int32)
    return clicks, pd.DataFrame({"section": section, "level": level})


def two_windows(rng: np.random.Generator, pages: int, *, kind: str = "year", days: int = 90) -> tuple[pd.DataFrame, float]:
    """Clicks of pages in two windows out of daily series with weekdays, an annual wave and over-dispersed days; and what is true.

    Returns recent, reference, section, true_recent, true_reference (expected clicks), true_share (the planted change), and the factor that
    weekdays and length alone would give. kind `year`: the same days a year before; `before`: the days just before, in another season.
    """
    section = rng.integers(0, 10, pages)
    level = rng.lognormal(0.0, 1.4, pages)
    moved = rng.choice([0.0, 0.05, -0.05, -0.1, -0.5, -0.7, 0.8], pages, p=[0.6, 0.08, 0.08, 0.08, 0.06, 0.05, 0.05])
    first = {"year": -365, "before": -days}[kind]
    peak, height = rng.uniform(0, 365, 10), rng.uniform(0.1, 0.7, 10)

    def window(start: int, factor: Floats | float) -> tuple[Floats, Floats, Floats]:
        time = np.arange(start, start + days)
        wave = np.exp(height[:, None] * np.cos(2 * np.pi * (time[None, :] - peak[:, None]) / 365.25))
        week = np.where((time % 7) >= 5, 0.7, 1.1)
        expected = (level * factor)[:, None] * wave[section] * week[None, :]
        strays = np.exp(wander(rng, pages, days, 0.1, 30)) * rng.gamma(12.0, 1 / 12.0, expected.shape)
        return rng.poisson(expected * strays).sum(axis=1), expected.sum(axis=1), week

    recent, true_recent, week = window(0, 1 + moved)
    reference, true_reference, week_before = window(first, np.ones(pages))
    frame = pd.DataFrame({"recent": recent, "reference": reference, "section": section, "true_share": moved})
    wave = true_recent / (true_reference * (1 + moved))
    return frame.assign(true_recent=true_recent, true_reference=true_reference, true_season=wave), float(week.sum() / week_before.sum())


def single_causes(rng: np.random.Generator, pages: int, *, queries: int = 6) -> tuple[pd.DataFrame, pd.DataFrame]:
    """Rows of (page, query, window, week) with planted single causes, and the cause of each page.

    How far searchers look and how they choose differ from world to world; one query in five is shared by two pages. Cause rank takes a
    page 1.5 to 5 times down, often beyond the tenth place; demand and pull fall to 0.3 to 0.6, or all of them the other way round.
    """
    page = np.repeat(np.arange(pages), queries)
    query = np.arange(len(page))
    shared = rng.random(len(page)) < 0.2
    query[shared] = rng.permutation(query)[shared]
    cause = rng.choice(["none", "demand", "rank", "pull"], pages, p=[0.7, 0.1, 0.1, 0.1])
    demand = rng.lognormal(6.5, 1.0, len(page))[query] / 12
    place = np.exp(rng.uniform(0.2, 2.7, pages))[page] * rng.lognormal(0, 0.25, len(page))
    factor = np.where(cause == "rank", rng.uniform(1.5, 5.0, pages), np.where(cause == "none", 1.0, rng.uniform(0.3, 0.6, pages)))
    turned = rng.random(pages) < 0.3  # the change was for the better
    steep, far, gamma = rng.uniform(10, 20), rng.uniform(0.35, 0.7), rng.uniform(0.95, 1.3)
    # searchers come or not for all pages of a query
    fewer = {"recent": np.ones(len(page)), "reference": np.ones(len(page))}
    for window, when in (("recent", ~turned), ("reference", turned)):
        np.minimum.at(fewer[window], query, np.where((cause[page] == "demand") & when[page], factor[page], 1.0))
    rows = []
    for window in ("recent", "reference"):
        changed = (turned[page] & (window == "reference")) | (~turned[page] & (window == "recent"))
        for _ in range(12):
            searched = demand * fewer[window][query] * rng.gamma(15, 1 / 15, len(page))[query]
            sunk = np.where(changed & (cause[page] == "rank"), factor[page], 1.0)
            at = np.maximum(place * sunk * rng.lognormal(0, 0.12, len(page)), 1.0)
            seen = np.where(at <= 10.5, 1 - 0.01 * at, far * np.exp(-(at - 10.5) / steep))
            shown = rng.poisson(searched * seen)
            pull = np.where(changed & (cause[page] == "pull"), factor[page], 1.0)
            chosen = rng.binomial(shown, np.minimum(0.32 * at**-gamma * pull, 1))
            rows.append(
                pd.DataFrame({"page": page, "query": query, "window": window, "impressions": shown, "position": at, "clicks": chosen})
            )
    table = pd.concat(rows, ignore_index=True)
    # a query that also fell for the demand of another page has two causes there: such pages are left out of the score
    touched = np.minimum(fewer["recent"], fewer["reference"])[query] < 1
    twice = (fewer["recent"] < 1)[query] & (fewer["reference"] < 1)[query]
    mixed = pd.Series(touched & (cause[page] != "demand") | twice).groupby(page).any()
    return table[table["impressions"] > 0], pd.DataFrame({"cause": np.where(mixed, "mixed", cause), "turned": turned, "factor": factor})


def pairs_of(rows: pd.DataFrame) -> tuple[pd.DataFrame, pd.DataFrame]:
    """The rows of `single_causes` as the split takes them: one row per (page, query), expected clicks by a curve learnt from them; and totals."""
    from nibbet.core.curve import learn_curve

    rows = rows.assign(bin=np.minimum((np.log(np.maximum(rows["position"], 1)) * 10).astype(int), 46))
    cells = rows.groupby(["page", "bin"], as_index=False)[["clicks", "impressions"]].sum().assign(device="", surface="", brand=False)
    rate = learn_curve(cells).rates.set_index("bin")["rate"]
    rows = rows.assign(expected_clicks=rows["impressions"] * rows["bin"].map(rate), position_sum=rows["position"] * rows["impressions"])
    sums = rows.groupby(["page", "query", "window"])[["impressions", "expected_clicks", "position_sum", "clicks"]].sum()
    sums["position"] = sums.pop("position_sum") / sums["impressions"]
    wide = sums.unstack("window")
    table = pd.DataFrame(index=wide.index)
    for name in ("impressions", "expected_clicks", "position", "clicks"):
        for window, suffix in (("recent", ""), ("reference", "_reference")):
            column = wide[name][window]
            table[name + suffix] = column if name == "position" else column.fillna(0)
    table = table.reset_index()
    totals = table.groupby("page", as_index=False)[["clicks", "clicks_reference"]].sum().rename(columns={"clicks": "clicks_recent"})
    return table, totals


def rows_of_results(rng: np.random.Generator, pages: int, *, noise: float = 0.4, days: int = 8) -> tuple[pd.DataFrame, pd.DataFrame]:
    """Rows of (page, query, device, day) with clicks and impressions, and per page whether it is chosen too seldom (0.4 of usual).

    Queries stray from the curve for good by `noise` (coefficient of variation), pages by 0.12 more, days by 0.3; few queries make most of
    a page, and one in 25 names the brand.
    """
    low = rng.random(pages) < 1 / 12
    strays = rng.gamma(1 / 0.12**2, 0.12**2, pages) * np.where(low, 0.4, 1.0)
    place = np.exp(rng.gamma(2.2, 0.75, pages))
    steep, first = rng.uniform(0.95, 1.25), rng.uniform(0.22, 0.34)
    of_page = np.repeat(np.arange(pages), 1 + rng.poisson(7, pages))
    weight = rng.lognormal(3.6, 1.0, pages)[of_page] * rng.lognormal(0, 0.8, len(of_page))
    brand = rng.random(len(of_page)) < 0.04
    at_query = np.where(
        brand, 1 + rng.exponential(0.3, len(of_page)), np.maximum(1.0, place[of_page] * rng.lognormal(0, 0.2, len(of_page)))
    )
    choice = rng.gamma(1 / noise**2, noise**2, len(of_page)) * strays[of_page]
    query = np.repeat(np.arange(len(of_page)), days)
    page = of_page[query]
    at = np.maximum(1.0, at_query[query] * rng.lognormal(0, 0.1, len(query)))
    device = rng.choice(["mobile", "desktop"], len(query), p=[0.65, 0.35])
    shown = rng.poisson(weight[query] * rng.gamma(2.0, 0.5, len(query)))
    at = np.round(at, 1)  # as exports give it
    true = np.where(brand[query], 0.55 * at**-0.8, first * at**-steep) * np.where(device == "mobile", 1.05, 0.85)
    rate = np.clip(true * np.where(brand[query], 1.0, choice[query]) * rng.gamma(11, 1 / 11, len(query)), 0, 0.95)
    rows = pd.DataFrame({"page": page, "device": device, "surface": "web", "brand": brand[query], "position": at})
    rows = rows.assign(impressions=shown, clicks=rng.binomial(shown, rate), true=true)
    return rows[rows["impressions"] > 0].reset_index(drop=True), pd.DataFrame({"low": low, "first": first, "steep": steep})
