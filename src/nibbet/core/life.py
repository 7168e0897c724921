"""Lifespan of pages: short-lived or evergreen, and events that are over."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

#: share of the clicks of a page, within so many weeks of its start, that makes it short-lived, once it has existed for LIVED weeks
SHORT_SHARE, SHORT_WEEKS, LIVED = 0.7, 8, 26


def life_of_pages(clicks: NDArray[np.number], began: NDArray[np.int64]) -> NDArray[np.str_]:
    """Per page: short-lived (most of its clicks in its first weeks), evergreen, or "" (too young, older than the data, or under 50 clicks).

    Args:
        clicks: pages x weeks, season divided out or not; began: first week of each page, 0 for those older than the data.
    """
    weeks = clicks.shape[1]
    time = np.arange(weeks)[None, :]
    early = (clicks * (time < (began + SHORT_WEEKS)[:, None])).sum(axis=1)
    total = clicks.sum(axis=1)
    known = (weeks - began >= LIVED) & (began > 0) & (total >= 50)
    return np.where(known, np.where(early >= SHORT_SHARE * total, "short-lived", "evergreen"), "")


#: longest event in weeks, its share of all clicks, and least clicks to recognise one: steady clicks would give so many again
EVENT_WEEKS, EVENT_SHARE, EVENT_CLICKS = 6, 0.7, 8
#: weeks that must have passed since, with less than this share of the weekly clicks of the event
QUIET_WEEKS, QUIET_SHARE = 4, 0.1
#: weeks between an event and the same weeks of another year, give or take movable feasts; and weeks before its event in which a page about it
#: is published
YEAR_WEEKS, MOVABLE_WEEKS, AHEAD_WEEKS = 52, 5, 8


def come_at_once(clicks: NDArray[np.number]) -> NDArray[np.bool_]:
    """Whether EVENT_SHARE of the clicks of each page come from one run of EVENT_WEEKS weeks, over or not: such pages show no common movement.

    Args:
        clicks: pages x weeks.
    """
    sums = np.concatenate([np.zeros((len(clicks), 1)), np.cumsum(clicks, axis=1, dtype=np.float64)], axis=1)
    run = min(EVENT_WEEKS, max(clicks.shape[1], 1))
    best = (sums[:, run:] - sums[:, :-run]).max(axis=1, initial=0.0)
    result: NDArray[np.bool_] = best >= EVENT_SHARE * np.maximum(sums[:, -1], 1e-9)
    return result


def events_of_pages(clicks: NDArray[np.number], began: NDArray[np.int64]) -> pd.DataFrame:
    """Pages whose clicks come from one event that is over: a spike of a few weeks, with little before and less after.

    Args:
        clicks: pages x weeks, the last one the newest; began: first week of each page, 0 for those older than the data.
    Returns:
        One row per page: event (whether), first, last (numbers of its first and last week: the shortest run with EVENT_SHARE of the
            clicks), share (of all clicks in that run), sure. A season is wider: in an annual wave whose peak is three times its mean, six
            weeks hold a quarter. A short season that the data contain once looks the same: it is surely an event where the same weeks of
            another year, in which the page existed, had no peak, or where the page was published just before.
    """
    pages, weeks = clicks.shape
    none = pd.DataFrame({"event": False, "first": 0, "last": 0, "share": 0.0, "sure": False}, index=pd.RangeIndex(pages))
    if weeks < LIVED or not pages:
        return none
    sums = np.concatenate([np.zeros((pages, 1)), np.cumsum(clicks, axis=1, dtype=np.float64)], axis=1)
    total = sums[:, -1]
    length, first = np.zeros(pages, dtype=np.int64), np.zeros(pages, dtype=np.int64)
    for run in range(EVENT_WEEKS, 0, -1):  # the shortest run that holds the share
        window_sums = sums[:, run:] - sums[:, :-run]
        best = window_sums.argmax(axis=1)
        enough = window_sums[np.arange(pages), best] >= EVENT_SHARE * np.maximum(total, 1e-9)
        length, first = np.where(enough, run, length), np.where(enough, best, first)
    row = np.arange(pages)
    window_sums = sums[row, first + length] - sums[row, first]
    after = weeks - first - length
    later = (total - sums[row, first + length]) / np.maximum(after, 1)
    over = (length > 0) & (after >= QUIET_WEEKS) & (later <= QUIET_SHARE * window_sums / np.maximum(length, 1))
    known = over & (total >= EVENT_CLICKS) & (weeks - began >= QUIET_WEEKS + 1)
    year = YEAR_WEEKS + MOVABLE_WEEKS
    again = (after >= year) | (first - began >= year)
    sure = again | ((began > 0) & (first - began <= AHEAD_WEEKS))
    share = window_sums / np.maximum(total, 1e-9)
    return pd.DataFrame({"event": known, "first": first, "last": first + length - 1, "share": share, "sure": known & sure})
