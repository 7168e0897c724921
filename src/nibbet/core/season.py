"""Seasons: weekday patterns and annual waves of sections, and of pages that have their own."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from nibbet.core.pull import false_discovery
from nibbet.core.windows import Window

Floats = NDArray[np.float64]

#: clicks of a section at which it has the same weight as the weekday pattern of the site
WEEKDAY_CLICKS = 300.0
#: weeks of data from which an annual wave can be separated from a trend, and most harmonics
LEAST_WEEKS, HARMONICS = 60, 4
YEAR_DAYS = 365.25
#: consecutive weeks are correlated: so many carry as much information as one independent week
TIED_WEEKS = 4.0
#: a peak counts as a season from this multiple of the mean of the year; the season begins where the wave passes BEGINS; weeks in which to
#: finish work before
PEAK, BEGINS, LEAD_WEEKS = 1.25, 1.1, 8
#: least distance of a second peak in days, with a low of at most this share of it on both sides; it must exceed BEGINS
SECOND_DAYS, VALLEY = 60, 0.9
#: clicks from which the season of a page is tested, its most harmonics, and false discovery rate of the test
SEASON_CLICKS, OWN_HARMONICS, CHANCE = 400, 2, 0.05
#: clicks from which the weekend of a page is tested: about thirty on Saturdays and Sundays
WEEKEND_CLICKS = 100
#: largest natural over-dispersion of days relative to counting, since clicks come in bursts; if most pages exceed it, they truly differ
MOST_BURSTS = 3.0
#: weeks that a page must have existed: in less than a year, a start looks like a season
YEAR_WEEKS = 52
#: variance of the logarithm of single weeks beyond counting, of a section and of a page
SECTION_STRAYS, PAGE_STRAYS = 0.01, 0.02
#: least variance between waves (1%), and squared error of a wave that is not fitted
LEAST_BETWEEN, UNFITTED = 0.01**2, 1e-6
#: ridge penalties of trend and waves: in little more than a year one may imitate the other
TREND_RIDGE, WAVE_RIDGE = 1.0, 0.5
#: Huber's constant; standard deviation / median absolute deviation of a normal distribution; least spread; rounds of reweighting
HUBER, MEDIAN_DISTANCE, LEAST_SPREAD, ROUNDS = 1.5, 1.48, 0.02, 6
#: pages processed at once
AT_ONCE = 10_000


def weekday_index(days: pd.DataFrame) -> pd.DataFrame:
    """The weekday pattern of each section.

    Args:
        days: section, date, clicks: one row per section and day.
    Returns:
        One row per section, columns 0 (Monday) to 6: clicks of that day / mean of all days, shrunk to the site where a section has few
        clicks.
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
    """The annual wave of each section, page, ... waves: keys x coefficients of cos and sin of 1 to HARMONICS harmonics, of the logarithm of
    clicks. `known` is false where the data are too short to separate a season from a trend; all waves are then flat.
    """

    waves: pd.DataFrame
    known: bool

    def index(self, days: pd.DatetimeIndex) -> pd.DataFrame:
        """Keys x days: searches relative to the mean of the year."""
        table = np.exp(self.waves.to_numpy() @ _turns(days).T)
        year = np.exp(self.waves.to_numpy() @ _turns(pd.date_range("2025-01-01", "2025-12-31")).T).mean(axis=1)
        return pd.DataFrame(table / year[:, None], index=self.waves.index, columns=days)

    def ratio(self, recent: Window, reference: Window) -> pd.Series:
        """Per section, the factor between the mean days of the two windows that is due to the season alone."""
        now, then = (self.index(pd.date_range(w.start, w.end)).mean(axis=1) for w in (recent, reference))
        return now / then


def _turns(days: pd.DatetimeIndex) -> Floats:
    angle = 2 * np.pi * days.day_of_year.to_numpy()[:, None] / YEAR_DAYS * np.arange(1, HARMONICS + 1)[None, :]
    return np.concatenate([np.cos(angle), np.sin(angle)], axis=1)


NAMES = [f"{kind}{n}" for kind in ("cos", "sin") for n in range(1, HARMONICS + 1)]


def annual_index(weeks: pd.DataFrame) -> Annual:
    """The annual wave of each section.

    Args:
        weeks: section, end (last day of a whole week), clicks: one row per section and week.
    Returns:
        Waves fitted to the logarithm of weekly clicks with a level and a trend (harmonic regression, weighted by clicks, with Huber's
        weights against single weeks). The number of harmonics is chosen by the Schwarz criterion (Schwarz 1978, Ann. Stat. 6:461). Waves
        are shrunk to that of the site in proportion to their uncertainty (empirical Bayes).
    """
    table = weeks.pivot_table(index="section", columns="end", values="clicks", aggfunc="sum", fill_value=0, observed=True)
    if table.shape[1] < LEAST_WEEKS:
        return Annual(pd.DataFrame(0.0, index=table.index, columns=NAMES), False)
    clicks, design = table.to_numpy(float), _design(pd.DatetimeIndex(table.columns), HARMONICS)
    site, _ = _best_fit(clicks.sum(axis=0, keepdims=True), design, np.zeros(design.shape[1]))
    waves, doubt = (one[:, 2:] for one in _best_fit(clicks, design, site[0]))
    apart = (waves - site[0, 2:]) ** 2
    between = np.maximum((apart - doubt).mean(axis=0), LEAST_BETWEEN)
    weight = between / (between + doubt)
    return Annual(pd.DataFrame(weight * waves + (1 - weight) * site[0, 2:], index=table.index, columns=NAMES), True)


def _design(ends: pd.DatetimeIndex, waves: int) -> Floats:
    """Weeks x (level, trend, cos and sin of so many harmonics)."""
    turns = _turns(ends - pd.Timedelta(days=3))[:, _kept(waves)]
    return np.column_stack([np.ones(len(ends)), np.linspace(-1, 1, len(ends)), turns])


def _kept(waves: int) -> NDArray[np.int64]:
    """Indices of the coefficients of the first harmonics among all."""
    return np.concatenate([np.arange(waves), HARMONICS + np.arange(waves)])


def _best_fit(clicks: Floats, design: Floats, start: Floats) -> tuple[Floats, Floats]:
    """Coefficients of every row and their squared errors, with the number of harmonics chosen by the information criterion; the other
    coefficients are 0.
    """
    rows, weeks = len(clicks), clicks.shape[1] / TIED_WEEKS
    best, whole, errors = np.full(rows, np.inf), np.zeros((rows, design.shape[1])), np.full((rows, design.shape[1]), UNFITTED)
    y, weight = np.log(clicks + 0.5), _weights(clicks, SECTION_STRAYS)
    for waves in range(1, HARMONICS + 1):
        kept = np.concatenate([[0, 1], 2 + _kept(waves)])
        result, doubt, misfit = _regressed(y, weight, design[:, kept], start[kept])
        criterion = weeks * np.log(misfit) + len(kept) * np.log(weeks)
        better = np.flatnonzero(criterion < best)
        best[better], whole[better], errors[better] = criterion[better], 0.0, UNFITTED
        whole[better[:, None], kept], errors[better[:, None], kept] = result[better], doubt[better]
    return whole, errors


def _weights(clicks: Floats, strays: float) -> Floats:
    """The weight of the logarithm of clicks of a week: counting noise, and this additional variance."""
    weight: Floats = clicks / (1 + strays * clicks) + 0.1
    return weight


def _regressed(y: Floats, weight: Floats, design: Floats, target: Floats) -> tuple[Floats, Floats, Floats]:
    """Rows of a robust ridge regression on one design (level, trend, waves): coefficients, their squared errors, residual mean square.

    Args:
        y, weight: rows x weeks; design: weeks x terms; target: the values to which the terms are shrunk. Huber's weights limit single
            weeks; TIED_WEEKS consecutive weeks count as one.
    """
    ridge = np.diag([1e-6, TREND_RIDGE, *[WAVE_RIDGE] * (design.shape[1] - 2)])
    drawn = ridge @ np.concatenate([[0.0, 0.0], target[2:]])
    robust = np.ones(y.shape)
    for _ in range(ROUNDS):
        w = weight * robust
        normal = np.einsum("rw,wi,wj->rij", w, design, design, optimize=True) + ridge
        result = np.linalg.solve(normal, ((w * y) @ design + drawn)[:, :, None])[:, :, 0]
        rest = y - result @ design.T
        scale = np.maximum(np.median(np.abs(rest), axis=1, keepdims=True) * MEDIAN_DISTANCE, LEAST_SPREAD)
        robust = np.minimum(1.0, HUBER * scale / np.maximum(np.abs(rest), 1e-9))
    misfit = np.maximum((w * rest**2).sum(axis=1) / np.maximum(w.sum(axis=1), 1e-9), 1e-9)
    inverse = np.diagonal(np.linalg.inv(normal), axis1=1, axis2=2)
    return result, TIED_WEEKS * (misfit * w.mean(axis=1))[:, None] * inverse, misfit


def page_waves(clicks: NDArray[np.number], section: pd.Series, ends: pd.DatetimeIndex, annual: Annual) -> tuple[Annual, pd.Series]:
    """The annual wave of each page, and whether its season differs from that of its section.

    Args:
        clicks: pages x whole weeks; section: of each page (the index names the pages); ends: last day of each week; annual: of the
            sections.
    Returns:
        The wave of the section, modified where a year of weeks of the page differs significantly at 5% false discovery: a Wald test of the
        coefficients of a harmonic regression of clicks / the section's wave, with level and trend; errors count TIED_WEEKS as one.
    """
    waves = annual.waves.reindex(section.to_numpy()).set_axis(section.index).fillna(0.0)
    chosen = pd.Series(False, index=section.index)
    if not annual.known or not len(section):
        return Annual(waves, annual.known), chosen
    kept, design = _kept(OWN_HARMONICS), _design(ends, OWN_HARMONICS)
    usual = pd.DataFrame(annual.waves.to_numpy() @ _turns(ends - pd.Timedelta(days=3)).T, index=annual.waves.index)
    began = (clicks > 0).argmax(axis=1)
    enough = np.flatnonzero((clicks.sum(axis=1) >= SEASON_CLICKS) & (clicks.shape[1] - began >= YEAR_WEEKS))
    coefficients, doubts = [], []
    for at in range(0, len(enough), AT_ONCE):
        rows = enough[at : at + AT_ONCE]
        had = clicks[rows].astype(np.float64)
        y = np.log(had + 0.5) - usual.reindex(section.iloc[rows]).fillna(0.0).to_numpy()
        # weeks before its first one do not count
        weights = _weights(had, PAGE_STRAYS) * (np.arange(clicks.shape[1])[None, :] >= began[rows, None])
        terms, errors, _ = _regressed(y, weights, design, np.zeros(design.shape[1]))
        coefficients.append(terms[:, 2:])
        doubts.append(errors[:, 2:])
    if not len(enough):
        return Annual(waves, annual.known), chosen
    apart, doubt = np.concatenate(coefficients), np.concatenate(doubts)
    between = np.maximum((apart**2 - doubt).mean(axis=0), LEAST_BETWEEN)
    real = false_discovery(special.chdtrc(len(kept), (apart**2 / doubt).sum(axis=1))) < CHANCE
    moved = np.where(real[:, None], apart * between / (between + doubt), 0.0)
    table = waves.to_numpy().copy()
    table[enough[:, None], kept] += moved
    is_own = np.zeros(len(section), dtype=bool)
    is_own[enough] = real
    return Annual(pd.DataFrame(table, index=waves.index, columns=NAMES), True), pd.Series(is_own, index=section.index)


def weekend_shares(clicks: Floats, weekend: Floats, usual: Floats, share: float) -> tuple[Floats, NDArray[np.bool_]]:
    """Clicks of a weekend day / clicks of the mean day of each page, shrunk to its section; and which pages have their own weekday pattern.

    Args:
        clicks, weekend: of each page in the window, in total and on Saturdays and Sundays; usual: the ratio of its section; share: of the
            days that are Saturdays and Sundays.
    Returns:
        (the ratio, null without clicks; whether it differs from that of the section at 5% false discovery). The variance of pages around
        their section is estimated by moments; the test treats the variation of the median page as chance.
    """
    expected = np.clip(usual * share, 1e-3, 1 - 1e-3)
    with np.errstate(divide="ignore", invalid="ignore"):
        off = weekend / clicks - expected
        variance = expected * (1 - expected) / clicks
    known = clicks >= WEEKEND_CLICKS
    if not known.any():
        return np.where(clicks > 0, usual, np.nan), known
    ordinary = np.clip(float(np.median(off[known] ** 2 / variance[known])) / special.chdtri(1, 0.5), 1.0, MOST_BURSTS)
    variance = variance * ordinary
    has_wave = np.zeros(len(clicks), dtype=bool)
    has_wave[known] = false_discovery(special.chdtrc(1, off[known] ** 2 / variance[known])) < CHANCE
    between = max(float(np.mean(off[known] ** 2 - variance[known])), LEAST_BETWEEN)
    kept_share = np.where(clicks > 0, between / (between + variance), 0.0)
    result = np.where(clicks > 0, (expected + np.where(has_wave, off, kept_share * np.nan_to_num(off))) / share, np.nan)
    return result, has_wave


CALENDAR = "height peak begins ready_by second_height second_peak low quiet".split()


def season_calendar(annual: Annual, as_of: date) -> pd.DataFrame:
    """The season of each section (page, ...): one row per key, the columns CALENDAR.

    height: clicks at the peak / mean of the year; peak, begins, ready_by: days of the next season from as_of on, null where the year is
    flat;
    second_height, second_peak: another peak, at least SECOND_DAYS away, null without one; low, quiet: clicks at the low / mean, and its
    day. `begins` is where the wave passes BEGINS before the peak; `ready_by` is LEAD_WEEKS before that.
    """
    parts = [_calendar(annual, as_of, slice(at, at + AT_ONCE)) for at in range(0, max(len(annual.waves), 1), AT_ONCE)]
    return pd.concat(parts)


def _calendar(annual: Annual, as_of: date, rows: slice) -> pd.DataFrame:
    days = pd.date_range(as_of + timedelta(days=1), periods=365)
    table = Annual(annual.waves.iloc[rows], annual.known).index(days)
    wave, row = table.to_numpy(), np.arange(len(table))
    if not len(row):
        return pd.DataFrame(columns=CALENDAR, index=table.index)
    peak, low = wave.argmax(axis=1), wave.argmin(axis=1)
    turned = np.take_along_axis(wave, (peak[:, None] + np.arange(365)[None, :]) % 365, axis=1)  # the year starting at the peak
    before = turned[:, :0:-1] < BEGINS  # the days before the peak, backwards
    back = np.where(before.any(axis=1), before.argmax(axis=1) + 1, 0)
    has = annual.known & (wave[row, peak] >= PEAK)
    crest = (turned > np.roll(turned, 1, axis=1)) & (turned >= np.roll(turned, -1, axis=1))
    crest[:, :SECOND_DAYS] = crest[:, 365 - SECOND_DAYS :] = False
    valley = np.maximum(np.minimum.accumulate(turned, axis=1), np.minimum.accumulate(turned[:, ::-1], axis=1)[:, ::-1])
    crest &= (turned >= BEGINS) & (valley <= VALLEY * turned)
    second = np.where(crest, turned, 0.0).argmax(axis=1)
    also = has & crest[row, second]

    def day(number: NDArray[np.int64], known: NDArray[np.bool_]) -> pd.Series:
        return pd.Series(days[number], index=table.index).where(known)

    begins = day(peak, has) - pd.to_timedelta(pd.Series(back, index=table.index), unit="D")
    return pd.DataFrame(
        {
            "height": wave[row, peak],
            "peak": day(peak, has),
            "begins": begins,
            "ready_by": begins - pd.Timedelta(weeks=LEAD_WEEKS),
            "second_height": pd.Series(turned[row, second], index=table.index).where(also),
            "second_peak": day((peak + second) % 365, also),
            "low": wave[row, low],
            "quiet": day(low, has),
        },
        index=table.index,
    )
