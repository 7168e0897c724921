"""The season that pages share: weekdays, the annual wave of each section, and what a section's pages have in common."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core.windows import Window

Floats = NDArray[np.float64]

#: clicks of a section that count as much as the site's own weekdays
WEEKDAY_CLICKS = 300.0
#: weeks of data from which an annual wave can be told from a trend, and the waves a year that are fitted
LEAST_WEEKS, HARMONICS = 60, 2
YEAR_DAYS = 365.25
#: weeks in a row stray together: so many tell as much as one that stands alone
TIED_WEEKS = 4.0
#: a peak is a season's when it stands this far above the year's mean; it begins where the wave passes BEGINS; work should be done before that
PEAK, BEGINS, LEAD_WEEKS = 1.25, 1.1, 8


def weekday_index(days: pd.DataFrame) -> pd.DataFrame:
    """How the days of the week differ, per section.

    Args:
        days: section, date, clicks: one row per section and day.
    Returns:
        One row per section, columns 0 (Monday) to 6: clicks of that day / mean of all days, drawn to the site's where a section has few.
    """
    week = (
        days.groupby(["section", days["date"].dt.day_of_week])["clicks"].sum().unstack(fill_value=0).reindex(columns=range(7), fill_value=0)
    )
    number = days.drop_duplicates("date")["date"].dt.day_of_week.value_counts().reindex(range(7)).fillna(1)
    per_day = week.astype(float) / number
    site = per_day.sum() / max(per_day.to_numpy().sum(), 1e-9)
    share = (week + WEEKDAY_CLICKS * site * number / number.mean()).div(number, axis=1)
    index: pd.DataFrame = share.div(share.mean(axis=1), axis=0).rename_axis(columns=None)
    return index


@dataclass(frozen=True)
class Annual:
    """The annual wave of each section. waves: sections x coefficients of cos and sin of 1 and 2 waves a year, of the logarithm of clicks;
    `known` is false where the data are too short to tell a season from a trend, and all waves are flat then.
    """

    waves: pd.DataFrame
    known: bool

    def index(self, days: pd.DatetimeIndex) -> pd.DataFrame:
        """Sections x days: how much is searched against the mean of the year."""
        table = np.exp(self.waves.to_numpy() @ _turns(days).T)
        year = np.exp(self.waves.to_numpy() @ _turns(pd.date_range("2025-01-01", "2025-12-31")).T).mean(axis=1)
        return pd.DataFrame(table / year[:, None], index=self.waves.index, columns=days)

    def ratio(self, recent: Window, reference: Window) -> pd.Series:
        """Per section, the factor between the windows that the season alone would give to a day."""
        now, then = (self.index(pd.date_range(w.start, w.end)).mean(axis=1) for w in (recent, reference))
        return now / then


def _turns(days: pd.DatetimeIndex) -> Floats:
    angle = 2 * np.pi * days.day_of_year.to_numpy()[:, None] / YEAR_DAYS * np.arange(1, HARMONICS + 1)[None, :]
    return np.concatenate([np.cos(angle), np.sin(angle)], axis=1)


def annual_index(weeks: pd.DataFrame) -> Annual:
    """The annual wave of each section.

    Args:
        weeks: section, end (last day of a whole week), clicks: one row per section and week.
    Returns:
        Waves fitted to the logarithm of weekly clicks beside a level and a trend (harmonic regression, weighted by clicks, Huber's weights
        against single weeks), drawn to the site's wave as far as a section's own is uncertain (empirical Bayes).
    """
    table = weeks.pivot_table(index="section", columns="end", values="clicks", aggfunc="sum", fill_value=0, observed=True)
    names = [f"{kind}{n}" for kind in ("cos", "sin") for n in range(1, HARMONICS + 1)]
    if table.shape[1] < LEAST_WEEKS:
        return Annual(pd.DataFrame(0.0, index=table.index, columns=names), False)
    middle = pd.DatetimeIndex(table.columns) - pd.Timedelta(days=3)
    time = np.linspace(-1, 1, len(middle))
    design = np.column_stack([np.ones(len(time)), time, _turns(middle)])
    site, _ = _fitted(table.sum().to_numpy(float), design, np.zeros(design.shape[1]))
    fits = [_fitted(row, design, site) for row in table.to_numpy(float)]  # sections are few
    own, doubt = np.array([f[0][2:] for f in fits]), np.array([f[1][2:] for f in fits])
    apart = (own - site[2:]) ** 2
    between = np.maximum((apart - doubt).mean(axis=0), 0.01**2)
    weight = between / (between + doubt)
    return Annual(pd.DataFrame(weight * own + (1 - weight) * site[2:], index=table.index, columns=names), True)


def _fitted(clicks: Floats, design: Floats, start: Floats) -> tuple[Floats, Floats]:
    """Coefficients and their squared errors."""
    y, weight = np.log(clicks + 0.5), clicks / (1 + 0.01 * clicks) + 0.1  # counting noise and a tenth of strays
    ridge = np.diag([1e-6, 1.0, *[0.5] * (design.shape[1] - 2)])  # a trend and a wave may stand for each other in little more than a year
    target = np.concatenate([[0.0, 0.0], start[2:]])
    robust = np.ones(len(y))
    for _ in range(6):
        w = weight * robust
        normal = design.T @ (design * w[:, None]) + ridge
        found = np.linalg.solve(normal, design.T @ (w * y) + ridge @ target)
        rest = y - design @ found
        scale = max(float(np.median(np.abs(rest)) * 1.48), 0.02)
        robust = np.minimum(1.0, 1.5 * scale / np.maximum(np.abs(rest), 1e-9))
    variance = float((w * rest**2).sum() / max(w.sum(), 1e-9)) * w.mean()
    return found, TIED_WEEKS * variance * np.diag(np.linalg.inv(normal))


def season_calendar(annual: Annual, as_of: date) -> pd.DataFrame:
    """When each section has its season: section, height (clicks at the peak / mean of the year), peak, begins, ready_by (days of the next
    season from as_of on; null where the year is level), quiet (the day of the low), low (clicks at the low / mean).

    `begins` is where the wave passes BEGINS before the peak; what is to earn in the season should be done LEAD_WEEKS before that.
    """
    days = pd.date_range(as_of + timedelta(days=1), periods=365)
    table = annual.index(days)
    rows = []
    for section, wave in zip(table.index, table.to_numpy(), strict=True):  # sections are few
        peak, low = int(wave.argmax()), int(wave.argmin())
        above = np.roll(wave, -peak)[::-1] < BEGINS
        begins = days[peak] - pd.Timedelta(days=int(above.argmax()) if above.any() else 0)
        has = annual.known and wave[peak] >= PEAK
        rows.append(
            {
                "section": section,
                "height": wave[peak],
                "peak": days[peak] if has else pd.NaT,
                "begins": begins if has else pd.NaT,
                "ready_by": begins - pd.Timedelta(weeks=LEAD_WEEKS) if has else pd.NaT,
                "low": wave[low],
                "quiet": days[low] if has else pd.NaT,
            }
        )
    return pd.DataFrame(rows, columns=["section", "height", "peak", "begins", "ready_by", "low", "quiet"])


#: a page that has had this share of its clicks within so many weeks of its start is short-lived, if it has lived for LIVED weeks since
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
    told = (weeks - began >= LIVED) & (began > 0) & (total >= 50)
    return np.where(told, np.where(early >= SHORT_SHARE * total, "short-lived", "evergreen"), "")


#: weeks in which an event has most of its clicks, the share of all that is, and clicks from which it is told
EVENT_WEEKS, EVENT_SHARE, EVENT_CLICKS = 6, 0.7, 50
#: weeks that must have passed since, with under this share of the event's clicks a week
QUIET_WEEKS, QUIET_SHARE = 4, 0.1


def events_of_pages(clicks: NDArray[np.number], began: NDArray[np.int64]) -> pd.DataFrame:
    """Which pages owe nearly all to one event that is over: a spike of weeks, with little before and less after.

    Args:
        clicks: pages x weeks, the last one the newest; began: first week of each page, 0 for those older than the data.
    Returns:
        One row per page: event (whether), first, last (numbers of its first and last week: the shortest run with EVENT_SHARE of the clicks),
        share (of all clicks in that run). A season is wider: of a year's wave whose peak is three times its mean, six weeks hold a quarter.
        A yearly day that the data have seen once looks the same; where they reach a year back it shows twice, and is none.
    """
    pages, weeks = clicks.shape
    none = pd.DataFrame({"event": False, "first": 0, "last": 0, "share": 0.0}, index=pd.RangeIndex(pages))
    if weeks < LIVED or not pages:
        return none
    sums = np.concatenate([np.zeros((pages, 1)), np.cumsum(clicks, axis=1, dtype=np.float64)], axis=1)
    total = sums[:, -1]
    length, first = np.zeros(pages, dtype=np.int64), np.zeros(pages, dtype=np.int64)
    for run in range(EVENT_WEEKS, 0, -1):  # the shortest run that holds the share
        held = sums[:, run:] - sums[:, :-run]
        best = held.argmax(axis=1)
        enough = held[np.arange(pages), best] >= EVENT_SHARE * np.maximum(total, 1e-9)
        length, first = np.where(enough, run, length), np.where(enough, best, first)
    row = np.arange(pages)
    held = sums[row, first + length] - sums[row, first]
    after = weeks - first - length
    later = (total - sums[row, first + length]) / np.maximum(after, 1)
    over = (length > 0) & (after >= QUIET_WEEKS) & (later <= QUIET_SHARE * held / np.maximum(length, 1))
    told = over & (total >= EVENT_CLICKS) & (weeks - began >= QUIET_WEEKS + 1)
    return pd.DataFrame({"event": told, "first": first, "last": first + length - 1, "share": held / np.maximum(total, 1e-9)})
