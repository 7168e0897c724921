"""Simulates days of search and visits: demand x position x CTR, over-dispersed, with duplicate pages that compete."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.demo.builder import FIRST_DAY, LAST_COMPLETE_DAY, PARTIAL_DAYS, World

Floats = NDArray[np.float64]
DEVICES = {"mobile": (0.62, 1.06), "desktop": (0.33, 0.9), "tablet": (0.05, 0.95)}
PARTIAL = (0.62, 0.3, 0.06)  # share of the newest days that has arrived
#: peak (day of the year) and strength of the annual wave; share of Saturdays and Sundays against a working day; strength of a wave twice a year
SEASONS = {
    "rivers": (195, 0.75, 1.5, 0.0),
    "lakes": (200, 0.85, 1.55, 0.0),
    "technique": (150, 0.3, 1.15, 0.0),
    "kit": (120, 0.2, 0.95, 0.0),
    "shop": (340, 0.3, 0.9, 0.0),
    "hire": (200, 1.35, 1.6, 0.0),
    "courses": (105, 0.3, 0.9, 0.6),
    "journal": (180, 0.3, 1.2, 0.0),
    "help": (180, 0.3, 0.9, 0.0),
    "level": (1, 0.0, 1.0, 0.0),
    "deep_winter": (15, 3.0, 1.1, 0.0),
}


#: middle of an event (day of the calendar), and its standard deviation (days)
EVENT_DAY, EVENT_DAYS = 76, 6


@dataclass(frozen=True)
class Days:
    """search: one row per page, query, device and day with impressions; visits: one row per page, channel and day; pages: number of pages."""

    search: pd.DataFrame
    visits: pd.DataFrame
    pages: int


def calendar() -> pd.DatetimeIndex:
    return pd.date_range(FIRST_DAY, LAST_COMPLETE_DAY + timedelta(days=PARTIAL_DAYS))


def season_wave(names: pd.Series, days: pd.DatetimeIndex) -> Floats:
    """Rows x days: the annual and weekday multiplier of demand."""
    peak, strength, weekend, twice = (names.map({k: v[i] for k, v in SEASONS.items()}).to_numpy(float)[:, None] for i in range(4))
    turn = 2 * np.pi * (days.day_of_year.to_numpy()[None, :] - peak) / 365.25
    wave: Floats = np.exp(strength * np.cos(turn) + twice * np.cos(2 * turn)) * np.where(
        days.day_of_week.to_numpy()[None, :] >= 5, weekend, 1.0
    )
    return wave


def courses(trends: pd.Series, days: pd.DatetimeIndex) -> Floats:
    """Rows x days: the lasting course of demand: level, fading, or an event of some weeks."""
    day = np.arange(len(days))
    course = {
        "fading": np.interp(day, [0, 200, 430], [1.0, 0.95, 0.34]),
        "event": 0.1 + 14 * np.exp(-((day - EVENT_DAY) ** 2) / 2 / EVENT_DAYS**2),
    }
    level = np.ones(len(days))
    return np.stack([course.get(trend, level) for trend in trends])


def seen_share(position: Floats) -> Floats:
    """Share of searchers who look as far as this position."""
    return np.where(position <= 10.5, 1.0 - 0.012 * position, 0.42 * np.exp(-(position - 10.5) / 14))


def chosen_share(position: Floats, brand: NDArray[np.bool_]) -> Floats:
    """CTR of a usual result at this position."""
    usual = 0.30 * position**-1.12 * np.where(position > 10.5, 0.7, 1.0)
    return np.where(brand, np.minimum(0.62, 0.58 * position**-0.9), usual)


def wander(rng: np.random.Generator, rows: int, days: int, spread: float, memory_days: float) -> Floats:
    """Rows x days: a slow random drift around 0 (first-order autoregression) with standard deviation `spread`."""
    keep = np.exp(-1 / memory_days)
    steps = rng.normal(0, spread * np.sqrt(1 - keep * keep), (rows, days))
    steps[:, 0] = rng.normal(0, spread, rows)
    for day in range(1, days):
        steps[:, day] += keep * steps[:, day - 1]
    return steps


def _demand(rng: np.random.Generator, pairs: pd.DataFrame, market: pd.DataFrame, days: pd.DatetimeIndex, noise_level: float) -> Floats:
    """Searches a day; all rows of a (unit, query) have the same, because they are the same searches."""
    code = pairs.groupby(["unit", "query"], sort=False).ngroup().to_numpy()
    shape = 12.0 / noise_level**2
    noise = rng.gamma(shape, 1 / shape, (code.max() + 1, len(days)))
    drift = np.exp(wander(rng, code.max() + 1, len(days), 0.07 * noise_level, 40))
    of_market = market.loc[pairs["season"].to_numpy()].to_numpy()
    demand: Floats = (
        pairs["demand"].to_numpy()[:, None]
        * season_wave(pairs["season"], days)
        * of_market
        * courses(pairs["trend"], days)
        * (noise * drift)[code]
    )
    return demand


def _fallen(pairs: pd.DataFrame, days: int, length: float) -> Floats:
    """Rows x days: 0 before the fault of the page, rising to 1 when it is complete."""
    onset, day = pairs["onset"].to_numpy()[:, None], np.arange(days)[None, :]
    part: Floats = np.clip((day - onset) / length, 0, 1) * (onset >= 0)
    return part


def _position(rng: np.random.Generator, pairs: pd.DataFrame, days: pd.DatetimeIndex, noise: float) -> Floats:
    """Latent position by day: base, slow drift, daily variation, and the fault of the page."""
    count, n = len(pairs), len(days)
    pages = pairs["page"].astype("category").cat.codes.to_numpy()
    slow = wander(rng, pages.max() + 1, n, 0.08 * noise, 30)[pages]
    sink = np.log(pairs["sink"].to_numpy())[:, None] * _fallen(pairs, n, 21.0)
    place: Floats = np.maximum(
        1.0, np.exp(np.log(pairs["position"].to_numpy())[:, None] + slow + sink + rng.normal(0, 0.10, (count, n)) * noise)
    )
    return place


def _turns(rng: np.random.Generator, pairs: pd.DataFrame, days: int) -> tuple[Floats, Floats]:
    """For duplicates: (share of the demand for which each page is shown, factor on its position), rows x days.

    Each day one page of the group leads a query. The others are seldom shown, and the leader has a worse position than a single page would.
    """
    shown, worse = np.ones((len(pairs), days)), np.ones((len(pairs), days))
    rows = np.flatnonzero(pairs["leads"].to_numpy() < 1)
    if not len(rows):
        return shown, worse
    group = pairs.iloc[rows].groupby(["unit", "query"], sort=False)
    code, place = group.ngroup().to_numpy(), group.cumcount().to_numpy()
    members = int(place.max()) + 1
    weight = np.zeros((code.max() + 1, members))
    weight[code, place] = pairs["leads"].to_numpy()[rows]
    ladder = np.cumsum(weight / weight.sum(axis=1, keepdims=True), axis=1)
    drawn = (rng.random((len(weight), days))[:, :, None] > ladder[:, None, :]).sum(axis=2)
    stay = rng.random((len(weight), days)) < 0.55
    leader = drawn.copy()
    for day in range(1, days):
        leader[:, day] = np.where(stay[:, day], leader[:, day - 1], drawn[:, day])
    leads = leader[code] == place[:, None]
    alone = pairs["alone"].to_numpy()[rows][:, None]
    shown[rows] = np.where(alone >= 0, alone, np.where(leads, 1.0, 0.07))
    worse[rows] = np.where(alone >= 0, 1.0, np.where(leads, 1.9, 3.0))
    return shown, worse


def _active(pairs: pd.DataFrame, days: pd.DatetimeIndex) -> Floats:
    """Rows x days: 0 before the page existed, small after it was blocked, failed or moved."""
    day = np.arange(len(days))[None, :]
    born = ((pd.to_datetime(pairs["published"]) - days[0]).dt.days.to_numpy())[:, None]
    young = np.clip((day - born) / 45.0, 0.0, 1.0) * (day >= born)
    onset = pairs["onset"].to_numpy()[:, None]
    gone = ((pairs["status"] != 200) | pairs["noindex"] | pairs["case"].eq("closed")).to_numpy()[:, None]
    left = np.where(gone & (day >= onset), np.maximum(0.06, np.exp(-(day - onset) / 12.0)), 1.0)
    waiting = (onset < -1) & (day < -onset)
    return young * left * ~waiting


@dataclass(frozen=True)
class Latent:
    """Rows x days: searches in which the page is shown, its position, its pull; and whether the query of each row contains the brand."""

    looks: Floats
    position: Floats
    appeal: Floats
    brand: NDArray[np.bool_]

    def chosen(self, eager: float, at: Any = ...) -> Floats:
        """CTR at each position and pull."""
        brand = np.broadcast_to(self.brand[:, None], self.position.shape)
        likely: Floats = np.clip(chosen_share(self.position[at], brand[at]) * self.appeal[at] * eager, 0, 0.9)
        return likely


def _latent(rng: np.random.Generator, pairs: pd.DataFrame, market: pd.DataFrame, days: pd.DatetimeIndex, noise: float) -> Latent:
    shown, worse = _turns(rng, pairs, len(days))
    position = _position(rng, pairs, days, noise) * worse
    arrived = np.ones(len(days))
    arrived[-PARTIAL_DAYS:] = PARTIAL
    looks = _demand(rng, pairs, market, days, noise) * seen_share(position) * shown * _active(pairs, days) * arrived
    faded = pairs["fade"].to_numpy()[:, None] ** _fallen(pairs, len(days), 3.0)
    appeal = (pairs["pull_pair"] * pairs["page_pull"]).to_numpy()[:, None] * faded
    return Latent(looks, position, appeal, pairs["brand"].to_numpy())


def _search(rng: np.random.Generator, pairs: pd.DataFrame, market: pd.DataFrame, days: pd.DatetimeIndex, noise: float) -> pd.DataFrame:
    latent = _latent(rng, pairs, market, days, noise)
    parts = []
    for device, (share, eager) in DEVICES.items():
        impressions = rng.poisson(latent.looks * share)
        row, day = np.nonzero(impressions)
        count, place = impressions[row, day], latent.position[row, day]
        likely = latent.chosen(eager, (row, day))
        rate = np.clip(likely * rng.gamma(9.0 / noise**2, noise**2 / 9.0, len(row)), 0, 0.95)
        places = np.maximum(count, np.rint(place * count + rng.normal(0, 0.3, len(row)) * np.sqrt(count)))
        parts.append(
            pd.DataFrame(
                {"row": row, "day": day, "device": device, "impressions": count, "clicks": rng.binomial(count, rate), "places": places}
            )
        )
    result = pd.concat(parts, ignore_index=True)
    result["page"] = pairs["page"].to_numpy()[result["row"]]
    result["query"] = pairs["query"].to_numpy()[result["row"]]
    return result.drop(columns="row")


NOTHING_SEARCHED = pd.DataFrame({"page": [], "query": [], "day": [], "device": [], "clicks": [], "impressions": [], "places": []}).astype(
    {"page": int, "day": int, "clicks": int, "impressions": int, "query": str, "device": str}
)

CHANNELS = {"organic": 0.0, "direct": 0.45, "newsletter": 0.2, "social": 0.2, "referral": 0.1, "paid": 0.05}


def _visits(rng: np.random.Generator, pages: pd.DataFrame, search: pd.DataFrame, days: pd.DatetimeIndex) -> pd.DataFrame:
    """Sessions by channel. Organic ones follow from clicks, less visitors who block analytics."""
    shape = (len(pages), len(days))
    clicks = np.zeros(shape)
    arrived = np.ones(len(days))
    arrived[-PARTIAL_DAYS:] = PARTIAL  # visits are counted at once, clicks later
    place = pages["page"].searchsorted(search["page"].to_numpy())
    np.add.at(clicks, (place, search["day"].to_numpy()), search["clicks"].to_numpy())
    broken = (pages["status"] != 200).to_numpy()[:, None] & (np.arange(len(days))[None, :] >= np.abs(pages["onset"].to_numpy())[:, None])
    alive = (days.to_numpy()[None, :] >= pd.to_datetime(pages["published"]).to_numpy()[:, None]) & ~broken
    parts = []
    for channel, share in CHANNELS.items():
        expected = (
            np.rint(clicks / arrived) if channel == "organic" else pages["other_sessions"].to_numpy()[:, None] * share * np.ones(shape)
        )
        sessions = rng.binomial(expected.astype(int), 0.93) if channel == "organic" else rng.poisson(expected)
        row, day = np.nonzero(sessions * alive)
        count = sessions[row, day]
        engaged = rng.binomial(count, np.clip(pages["engaged"].to_numpy()[row] * rng.gamma(60, 1 / 60, len(row)), 0, 0.97))
        sold = rng.binomial(count, pages["conversion"].to_numpy()[row])
        parts.append(
            pd.DataFrame(
                {
                    "page": pages["page"].to_numpy()[row],
                    "day": day,
                    "channel": channel,
                    "sessions": count,
                    "engaged": engaged,
                    "seconds": np.rint(engaged * rng.gamma(4, 22, len(row)) + (count - engaged) * 6),
                    "conversions": sold,
                    "revenue": np.round(sold * pages["basket"].to_numpy()[row] * rng.uniform(0.6, 1.5, len(row)), 2),
                }
            )
        )
    return pd.concat(parts, ignore_index=True)


def _blocks(world: World, pages_at_once: int) -> Iterator[tuple[np.random.Generator, pd.DataFrame, pd.DataFrame, pd.DataFrame]]:
    """Blocks of whole units, each with its own random generator: (rng, pages, pairs, market)."""
    days = calendar()
    market_rng = np.random.default_rng([world.seed, 1])
    market = pd.DataFrame(
        np.exp(
            wander(market_rng, len(SEASONS), len(days), 0.05, 25)
            + np.linspace(0, 1, len(days)) * market_rng.normal(0, 0.05, (len(SEASONS), 1))
        ),
        index=list(SEASONS),
    )
    block_of = (
        world.pages.sort_values(["unit", "page"]).assign(block=lambda f: np.arange(len(f)) // pages_at_once).groupby("unit")["block"].min()
    )
    blocks = world.pages["unit"].map(block_of)
    pairs = world.pairs.rename(columns={"pull": "pull_pair"})
    pairs["season"] = pairs["season"].replace({"home": "shop", "legal": "level"})
    for block in sorted(blocks.unique()):
        pages = world.pages[blocks == block]
        yield np.random.default_rng([world.seed, 2, int(block)]), pages, pairs[pairs["page"].isin(pages["page"])], market


def simulate(world: World, *, pages_at_once: int = 400) -> Iterator[Days]:
    """Simulate the world in blocks of whole units, so that any size fits in memory. Equal worlds give equal days."""
    for rng, pages, pairs, market in _blocks(world, pages_at_once):
        mine = pairs.reset_index(drop=True)
        search = _search(rng, mine, market, calendar(), world.level.noise) if len(mine) else NOTHING_SEARCHED
        yield Days(search, _visits(rng, pages.reset_index(drop=True), search, calendar()), len(pages))


def expected_clicks(world: World, last: int, *, before: int = 0, noise: float | None = None, pages_at_once: int = 400) -> pd.Series:
    """Clicks that each pair of the world would get on average over `last` complete days that end `before` days before the last, all else of
    its chance being as it is lived; with another `noise`, as calm (or restless) as that.
    """
    window = slice(-PARTIAL_DAYS - before - last, -PARTIAL_DAYS - before)
    parts = []
    for rng, _, pairs, market in _blocks(world, pages_at_once):
        if pairs.empty:
            continue
        latent = _latent(rng, pairs, market, calendar(), world.level.noise if noise is None else noise)
        clicks = sum(latent.looks * share * latent.chosen(eager) for share, eager in DEVICES.values())
        parts.append(pd.Series(np.asarray(clicks)[:, window].sum(axis=1), index=pairs.index))
    return pd.concat(parts).reindex(world.pairs.index)
