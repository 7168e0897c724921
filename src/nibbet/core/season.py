"""The season that pages share: weekdays, the annual wave of each section, and what a section's pages have in common."""

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

#: clicks of a section that count as much as the site's own weekdays
WEEKDAY_CLICKS = 300.0
#: weeks of data from which an annual wave can be told from a trend, and how many waves a year are fitted at most
LEAST_WEEKS, HARMONICS = 60, 4
YEAR_DAYS = 365.25
#: weeks in a row stray together: so many tell as much as one that stands alone
TIED_WEEKS = 4.0
#: a peak is a season's when it stands this far above the year's mean; it begins where the wave passes BEGINS; work should be done before that
PEAK, BEGINS, LEAD_WEEKS = 1.25, 1.1, 8
#: a second peak stands so many days from the first, above the mean by BEGINS, with a low of this share of it on either side
SECOND_DAYS, VALLEY = 60, 0.9
#: clicks from which a page's own season is looked for, and the waves a year that are; of such findings one in twenty may be chance
SEASON_CLICKS, OWN_HARMONICS, CHANCE = 400, 2, 0.05
#: clicks from which a page's own weekend is looked for: some thirty on Saturdays and Sundays
WEEKEND_CLICKS = 100
#: times the variance of counting that days may show by themselves, for clicks come in bursts; where most pages show more, they differ
MOST_BURSTS = 3.0
#: weeks that a page must have been there: of less than a year, a start looks like a season
YEAR_WEEKS = 52
#: variance of the logarithm by which single weeks of a section, and of a page, stray beyond counting
SECTION_STRAYS, PAGE_STRAYS = 0.01, 0.02
#: least variance between waves (1%), and squared error of a wave that is not fitted
LEAST_BETWEEN, UNFITTED = 0.01**2, 1e-6
#: what holds a trend and a wave back: in little more than a year one may stand for the other
TREND_RIDGE, WAVE_RIDGE = 1.0, 0.5
#: Huber's constant; the spread of a normal distribution over its median distance; the least spread; rounds of reweighting
HUBER, MEDIAN_DISTANCE, LEAST_SPREAD, ROUNDS = 1.5, 1.48, 0.02, 6
#: pages that are looked at at once
AT_ONCE = 10_000


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
    """The annual wave of each section, page, ... waves: keys x coefficients of cos and sin of 1 to HARMONICS waves a year, of the logarithm of
    clicks; `known` is false where the data are too short to tell a season from a trend, and all waves are flat then.
    """

    waves: pd.DataFrame
    known: bool

    def index(self, days: pd.DatetimeIndex) -> pd.DataFrame:
        """Keys x days: how much is searched against the mean of the year."""
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


NAMES = [f"{kind}{n}" for kind in ("cos", "sin") for n in range(1, HARMONICS + 1)]


def annual_index(weeks: pd.DataFrame) -> Annual:
    """The annual wave of each section.

    Args:
        weeks: section, end (last day of a whole week), clicks: one row per section and week.
    Returns:
        Waves fitted to the logarithm of weekly clicks beside a level and a trend (harmonic regression, weighted by clicks, Huber's weights
        against single weeks), as many waves a year as the weeks support (Schwarz 1978, Ann. Stat. 6:461), drawn to the site's wave as far as
        a section's own is uncertain (empirical Bayes).
    """
    table = weeks.pivot_table(index="section", columns="end", values="clicks", aggfunc="sum", fill_value=0, observed=True)
    if table.shape[1] < LEAST_WEEKS:
        return Annual(pd.DataFrame(0.0, index=table.index, columns=NAMES), False)
    clicks, design = table.to_numpy(float), _design(pd.DatetimeIndex(table.columns), HARMONICS)
    site, _ = _best_fit(clicks.sum(axis=0, keepdims=True), design, np.zeros(design.shape[1]))
    own, doubt = (one[:, 2:] for one in _best_fit(clicks, design, site[0]))
    apart = (own - site[0, 2:]) ** 2
    between = np.maximum((apart - doubt).mean(axis=0), LEAST_BETWEEN)
    weight = between / (between + doubt)
    return Annual(pd.DataFrame(weight * own + (1 - weight) * site[0, 2:], index=table.index, columns=NAMES), True)


def _design(ends: pd.DatetimeIndex, waves: int) -> Floats:
    """Weeks x (level, trend, cos and sin of so many waves a year)."""
    turns = _turns(ends - pd.Timedelta(days=3))[:, _kept(waves)]
    return np.column_stack([np.ones(len(ends)), np.linspace(-1, 1, len(ends)), turns])


def _kept(waves: int) -> NDArray[np.int64]:
    """Where the coefficients of the first waves stand among all."""
    return np.concatenate([np.arange(waves), HARMONICS + np.arange(waves)])


def _best_fit(clicks: Floats, design: Floats, start: Floats) -> tuple[Floats, Floats]:
    """Coefficients of every row and their squared errors, with as many waves as the information criterion asks for; those of the others are 0."""
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
    """What a week's logarithm of clicks weighs: counting noise, and strays of this variance."""
    weight: Floats = clicks / (1 + strays * clicks) + 0.1
    return weight


def _regressed(y: Floats, weight: Floats, design: Floats, target: Floats) -> tuple[Floats, Floats, Floats]:
    """Rows of a robust ridge regression on one design (level, trend, waves): coefficients, their squared errors, mean square of what is left.

    Args:
        y, weight: rows x weeks; design: weeks x terms; target: what the terms are drawn to. Huber's weights against single weeks; weeks that
            stray together count TIED_WEEKS as one.
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
    """The annual wave of each page, and whether it has a season of its own beside its section's.

    Args:
        clicks: pages x whole weeks; section: of each page (the index names the pages); ends: last day of each week; annual: of the sections.
    Returns:
        The waves of its section, moved by its own where a year of its weeks tells that from chance at 5% false discovery: a Wald test of the
        coefficients of a harmonic regression on clicks / the section's wave, beside level and trend; their errors count TIED_WEEKS as one.
    """
    waves = annual.waves.reindex(section.to_numpy()).set_axis(section.index).fillna(0.0)
    own = pd.Series(False, index=section.index)
    if not annual.known or not len(section):
        return Annual(waves, annual.known), own
    kept, design = _kept(OWN_HARMONICS), _design(ends, OWN_HARMONICS)
    usual = pd.DataFrame(annual.waves.to_numpy() @ _turns(ends - pd.Timedelta(days=3)).T, index=annual.waves.index)
    began = (clicks > 0).argmax(axis=1)
    enough = np.flatnonzero((clicks.sum(axis=1) >= SEASON_CLICKS) & (clicks.shape[1] - began >= YEAR_WEEKS))
    coefficients, doubts = [], []
    for at in range(0, len(enough), AT_ONCE):
        rows = enough[at : at + AT_ONCE]
        had = clicks[rows].astype(np.float64)
        y = np.log(had + 0.5) - usual.reindex(section.iloc[rows]).fillna(0.0).to_numpy()
        weights = _weights(had, PAGE_STRAYS) * (
            np.arange(clicks.shape[1])[None, :] >= began[rows, None]
        )  # before its first week it was not there
        terms, errors, _ = _regressed(y, weights, design, np.zeros(design.shape[1]))
        coefficients.append(terms[:, 2:])
        doubts.append(errors[:, 2:])
    if not len(enough):
        return Annual(waves, annual.known), own
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
    """Clicks of a weekend day over those of the mean day, page by page, drawn to its section's; and which pages have weeks of their own.

    Args:
        clicks, weekend: of each page in the window, and those of Saturdays and Sundays; usual: the figure of its section; share: of the days
            that are Saturdays and Sundays.
    Returns:
        (the figure, null where there are no clicks; whether it departs from the section's beyond chance at 5% false discovery). Pages stray from
        their section by a variance that is learnt by moments; the test counts what the middle of all pages shows as chance.
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
    own = np.zeros(len(clicks), dtype=bool)
    own[known] = false_discovery(special.chdtrc(1, off[known] ** 2 / variance[known])) < CHANCE
    between = max(float(np.mean(off[known] ** 2 - variance[known])), LEAST_BETWEEN)
    kept_share = np.where(clicks > 0, between / (between + variance), 0.0)
    result = np.where(clicks > 0, (expected + np.where(own, off, kept_share * np.nan_to_num(off))) / share, np.nan)
    return result, own


CALENDAR = "height peak begins ready_by second_height second_peak low quiet".split()


def season_calendar(annual: Annual, as_of: date) -> pd.DataFrame:
    """When each section (page, ...) has its season: one row per key, the columns CALENDAR.

    height: clicks at the peak / mean of the year; peak, begins, ready_by: days of the next season from as_of on, null where the year is level;
    second_height, second_peak: a peak besides, at least SECOND_DAYS from it, null without one; low, quiet: clicks at the low / mean, and its
    day. `begins` is where the wave passes BEGINS before the peak; what is to earn in the season should be done LEAD_WEEKS before that.
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
    turned = np.take_along_axis(wave, (peak[:, None] + np.arange(365)[None, :]) % 365, axis=1)  # the year from the peak on
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
