"""The day since which impressions are counted differently: they and positions of earlier days are not comparable, while clicks are."""

from __future__ import annotations

from datetime import date, timedelta
from typing import NamedTuple

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core.windows import Window

Floats = NDArray[np.float64]

#: days on each side of the day, and least days with data among them; days within which most of the change must happen
SIDE, LEAST_DAYS, SUDDEN = 28, 24, 7
#: least change of the logarithm of impressions: less moves no CTR beyond the variation between pages
LEAST_CHANGE = float(np.log(1.2))
#: share of the change that must happen within SUDDEN days; part of it by which clicks may change; and multiple of the usual change
#: between two weeks that it must exceed
AT_ONCE, OF_CLICKS, BEYOND_USUAL = 0.6, 0.25, 4.0
#: impressions on each side from which a page and query shows how it is counted; least number of them; change of their mean position
#: (of its logarithm) in the direction that no move of rank explains
SHOWN, LEAST_ROWS, MOVED = 20, 30, 0.05


class Recount(NamedTuple):
    """since: the first day of the new counting; of the 28 days on each side: impressions and clicks after / before, and mean positions."""

    since: date
    impressions: float
    clicks: float
    position_before: float
    position_after: float


def sudden_change(days: pd.DataFrame) -> date | None:
    """The first day of the most sudden change of impressions that clicks did not follow; None without one.

    Args:
        days: date, clicks, impressions (counts), one row per complete day.
    """
    if days.empty:
        return None
    series = days.set_index("date")[["clicks", "impressions"]].astype("float64").sort_index()
    every = series.reindex(pd.date_range(series.index[0], series.index[-1]))
    there = np.asarray(every["impressions"].notna(), dtype=np.float64)
    clicks, shown = (every[name].fillna(0).to_numpy(np.float64) for name in ("clicks", "impressions"))
    if len(shown) < 2 * SIDE:
        return None
    at = np.arange(SIDE, len(shown) - SIDE + 1)
    by_month, by_clicks = (_log_ratio(values, at, SIDE) for values in (shown, clicks))
    by_week = _log_ratio(shown, at, SUDDEN)
    usual = float(np.median(np.abs(by_week)))
    enough = np.minimum(*_sums(there, at, SIDE)) >= LEAST_DAYS
    had, has = _sums(clicks, at, SIDE)
    chance = 2 * np.sqrt(1 / (has + 1) + 1 / (had + 1))
    passed = (
        enough
        & (np.abs(by_month) >= LEAST_CHANGE)
        & (by_week * np.sign(by_month) >= AT_ONCE * np.abs(by_month))
        & (np.abs(by_week) >= BEYOND_USUAL * usual)
        & (np.abs(by_clicks) <= OF_CLICKS * np.abs(by_month) + chance)
    )
    if not passed.any():
        return None
    best = at[passed][np.argmax(np.abs(by_week[passed]))]
    return pd.Timestamp(every.index[best]).date()


def sides(since: date) -> tuple[Window, Window]:
    """The windows before and after the day."""
    day = timedelta(days=1)
    return Window(since - SIDE * day, since - day), Window(since, since + (SIDE - 1) * day)


def confirmed(since: date, rows: pd.DataFrame) -> Recount | None:
    """The change of counting, where most rows show it; None where only some do, or where pages have moved.

    Where positions get better, a page is shown to more searchers, and where they get worse, to fewer. The opposite on most rows at
    once, without any effect on clicks, is no move: impressions far down in the results, which bring no clicks, are counted no longer, or anew.

    Args:
        since: the result of `sudden_change`; rows: clicks, impressions, position_sum and placed of each page and query (or page), with
            `_before` and `_after` of the two windows of `sides`.
    """
    least = rows[["impressions_before", "impressions_after"]].min(axis=1)
    known = rows[(least >= SHOWN) & (rows["placed_before"] > 0) & (rows["placed_after"] > 0)]
    if len(known) < LEAST_ROWS:
        return None
    shown = _of_rows(known["impressions_after"], known["impressions_before"])
    moved = _of_rows(known["position_sum_after"] / known["placed_after"], known["position_sum_before"] / known["placed_before"])
    both = rows[["clicks_before", "clicks_after", "impressions_before", "impressions_after"]].sum()
    change = float(np.log(both["impressions_after"] / both["impressions_before"]))
    clicks = float(np.log((known["clicks_after"].sum() + 1) / (known["clicks_before"].sum() + 1)))
    chance = 2 * float(np.sqrt(1 / (known["clicks_after"].sum() + 1) + 1 / (known["clicks_before"].sum() + 1)))
    way = np.sign(change)
    if np.median(shown) * way < abs(change) / 2 or np.median(moved) * way < MOVED or abs(clicks) > OF_CLICKS * abs(change) + chance:
        return None
    places = rows[["position_sum_before", "placed_before", "position_sum_after", "placed_after"]].sum()
    before, after = (float(places[f"position_sum_{side}"] / places[f"placed_{side}"]) for side in ("before", "after"))
    return Recount(since, float(np.exp(change)), float(both["clicks_after"] / max(both["clicks_before"], 1)), before, after)


def _of_rows(after: pd.Series, before: pd.Series) -> Floats:
    ratio: Floats = np.log(after.to_numpy(np.float64) / before.to_numpy(np.float64))
    return ratio


def _sums(values: Floats, at: NDArray[np.int64], days: int) -> tuple[Floats, Floats]:
    """The sums of so many days before each place, and from it on."""
    total: Floats = np.concatenate([[0.0], np.cumsum(values)])
    return total[at] - total[at - days], total[at + days] - total[at]


def _log_ratio(values: Floats, at: NDArray[np.int64], days: int) -> Floats:
    before, after = _sums(values, at, days)
    ratio: Floats = np.log((after + 1) / (before + 1))
    return ratio
