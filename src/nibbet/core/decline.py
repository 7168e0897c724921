"""Lasting declines and rises: for each page the week in which its level changed, by how much, and whether it lasted."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from nibbet.core.life import come_at_once, events_of_pages, life_of_pages
from nibbet.core.pull import false_discovery
from nibbet.core.steadiness import AFTER, BEFORE, QUARTILES, YEAR, Spread, before_and_after, natural_spread, without_spikes

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]

#: last weeks that must still be down
LATELY = 4
#: clicks a week from which a page contributes to the index of its section; fewer where less than so many pages have them, but at least one:
#: on a small site the busiest pages may be those that fell; largest number of such pages per section
BUSY, ENOUGH, LEAST_BUSY, TEACHERS = 8.0, 200, 1.0, 1500
#: pages processed at once: few enough for their tables to stay in the processor cache
AT_ONCE = 12_000
#: share of random steps that are still present in the last weeks, and could therefore be flagged
STILL_THERE = 0.6
#: expected clicks after the change below which no judgement is possible
LEAST_EXPECTED = 8.0
#: weeks until a new page reaches its level
STARTING = 26
#: durations in weeks of a fall; 0 is sudden
SLOW_WEEKS = (0, 8, 12, 20)
RAMP_PENALTY = 3.0
#: least number of pages for the median of a section, and for the usual start of a page
FEW_PAGES, LEAST_TEACHERS = 3, 20
#: variance of a median relative to that of a mean
MEDIAN = 1.57
#: squared error of the log index of a section without pages; least variance between sections (1% a week)
UNKNOWN_INDEX, LEAST_BETWEEN = 0.02, 1e-4
#: clicks a week from which the start of a grown page counts; lower limit of a start as a share of the level
GROWN_CLICKS, LOWEST_START = 3.0, 0.02
#: most pages used for the natural variation of pages
SAMPLED_PAGES = 20_000
#: a fall by more than half still holds while less than this share of the former level has returned
COME_BACK = 0.75
#: p-value below which the week of the change is located by likelihood, and normal quantile of a 95% interval
LIKELY, WIDE = 0.05, 1.96
COLUMNS = ["kind", "onset", "weeks", "before", "after", "depth", "depth_low", "depth_high", "q_value", "real"]


@dataclass(frozen=True)
class Index:
    """The common movement of the pages of a section: `level` (sections x weeks, around 1) and the squared error of its logarithm."""

    level: Floats
    error: Floats


def section_index(clicks: NDArray[np.number], section: Whole, sections: int, *, began: Whole | None = None) -> Index:
    """The common movement of the pages of a section, week by week: season, market, standing of the site.

    Args:
        clicks: pages x weeks (counts); section: number of the section of each page, below `sections`; began: first week of each page.
    Returns:
        The median over busy pages of log(clicks of the week / level of the page), shrunk to that of the site in proportion to the
        uncertainty of the median (empirical Bayes: Efron & Morris 1975, JASA 70:311). A median, so that pages that fell do not affect it.
    """
    weeks = clicks.shape[1]
    rows = _teachers(clicks, section, sections, began)
    table, section_of = clicks[rows].astype(np.float64), section[rows]
    if began is not None:
        table[np.arange(weeks)[None, :] < np.where(began[rows] > 0, began[rows] + BEFORE, 0)[:, None]] = np.nan
    site, level = np.zeros(weeks), np.zeros((sections, weeks))
    error = np.full((sections, weeks), UNKNOWN_INDEX)
    if not len(rows):
        return Index(np.ones((sections, weeks)), error)
    unseen = np.isnan(table).all(axis=0)  # weeks before any page began
    with np.errstate(invalid="ignore"):
        for _ in range(2):  # in the second pass the level of each page is free of the first index
            base = np.nanmedian(np.log(table + 0.5) - level[section_of], axis=1, keepdims=True)
            ratio = np.log(table + 0.5) - base
            site = np.nanmedian(np.where(unseen, 0.0, ratio), axis=0)
            middle, spread, number = np.tile(site, (sections, 1)), np.zeros((sections, weeks)), np.zeros((sections, weeks))
            for one in np.unique(section_of):
                part = ratio[section_of == one]
                count = np.isfinite(part).sum(axis=0)
                if len(part) >= FEW_PAGES and (count >= FEW_PAGES).all():
                    low, mid, high = np.nanpercentile(part, [25, 50, 75], axis=0)
                    middle[one], spread[one], number[one] = mid, ((high - low) / QUARTILES) ** 2, count
            doubt = np.where(number > 0, MEDIAN * spread / np.maximum(number, 1), np.inf)
            apart = (middle - site) ** 2
            known = number > 0
            between = max(float((apart[known] - doubt[known]).mean()), LEAST_BETWEEN) if known.any() else LEAST_BETWEEN
            weight = np.where(known, between / (between + np.where(known, doubt, 1.0)), 0.0)
            level = weight * middle + (1 - weight) * site
            error = np.where(known, weight * np.where(known, doubt, 0.0), between)
    return Index(np.exp(level), error)


def _teachers(clicks: NDArray[np.number], section: Whole, sections: int, began: Whole | None) -> Whole:
    """Busy pages with a history, not only of one event, at most TEACHERS per section, evenly spaced."""
    lived = np.broadcast_to(clicks.shape[1] - (began if began is not None else 0), len(clicks))
    weekly = np.where((lived >= 2 * BEFORE) & ~come_at_once(clicks), clicks.sum(axis=1) / np.maximum(lived, 1), -1.0)
    of_enough = np.partition(weekly, -ENOUGH)[-ENOUGH] if len(weekly) > ENOUGH else LEAST_BUSY
    busy = np.flatnonzero(weekly >= np.clip(of_enough, LEAST_BUSY, BUSY))
    order = busy[np.argsort(section[busy], kind="stable")]
    count = np.bincount(section[order], minlength=sections)
    rank = np.arange(len(order)) - np.repeat(np.cumsum(count) - count, count)
    step = np.maximum(np.ceil(count / TEACHERS), 1).astype(np.int64)[section[order]]
    return np.sort(order[rank % step == 0])


def usual_start(clicks: NDArray[np.number], level: Floats, section: Whole, began: Whole) -> Floats:
    """How pages of this site approach their level: the share of it reached in each of their first STARTING weeks.

    Args:
        clicks, section: as in `section_index`, whose `level` is given; began: first week of each page, 0 for those older than the data.
    Returns:
        STARTING shares in rising order, ending with 1. All are 1 where fewer than LEAST_TEACHERS busy pages began within the data and are
        old enough.
    """
    weeks = clicks.shape[1]
    grown = np.flatnonzero((began > 0) & (began + STARTING + BEFORE <= weeks))
    table = clicks[grown] / level[section[grown]]
    at = began[grown][:, None] + np.arange(STARTING + BEFORE)[None, :]
    table = np.take_along_axis(table, at, axis=1)
    usual = table[:, STARTING:].mean(axis=1)
    table = table[usual >= GROWN_CLICKS] / usual[usual >= GROWN_CLICKS][:, None]
    if len(table) < LEAST_TEACHERS:
        return np.ones(STARTING)
    share = np.maximum.accumulate(np.median(table[:, :STARTING], axis=0))
    return np.clip(share, LOWEST_START, 1.0)


def lasting_changes(
    clicks: NDArray[np.number], section: Whole, *, began: Whole | None = None, rising: bool = False, level: float = 0.05
) -> pd.DataFrame:
    """Pages that have fallen to a lower level and stayed there (or risen), since which week, and by how much.

    Args:
        clicks: pages x whole weeks, the last one the newest (counts); section: number of the section of each page.
        began: first week of the page, 0 for those older than the data; rising: detect rises instead.
        level: false discovery rate of those called real (Benjamini & Hochberg).
    Returns:
        One row per page, COLUMNS: kind (collapse, slow decay, rise; "" for none), onset (week number of the change),
        weeks (since then), before and after (clicks a week without and with the change), depth (1 - after / before;
        negative for a rise) with its 95% interval, q_value, real.

    Season and section are divided out first, then single spikes are capped. The week is the one with the largest variance-stabilised
    difference. Its tail is that of a negative binomial (gamma-mixed Poisson) whose spread is that of busy pages as unsteady as the page at the
    same comparison, by quartiles: over-dispersion, drift and the error of the index in one. A page is flagged only if it is still down in the last
    four weeks. With fewer than LEAST_EXPECTED clicks there is no judgement (q_value null).
    """
    start = np.zeros(len(clicks), dtype=np.int64) if began is None else np.asarray(began, dtype=np.int64)
    return _changes(clicks, section, start, _common(clicks, section, start), rising=rising, level=level)


@dataclass(frozen=True)
class _Common:
    """What the pages of a site have in common: the index of sections, the usual start of pages, and their natural variation."""

    index: Index
    share: Floats
    spread: Spread | None


def _common(clicks: NDArray[np.number], section: Whole, start: Whole) -> _Common:
    """`spread` is None where there are no pages, or too few weeks to judge them."""
    sections = int(section.max()) + 1 if len(section) else 0
    index = section_index(clicks, section, sections, began=start)
    if not len(clicks) or clicks.shape[1] < BEFORE + AFTER:
        return _Common(index, np.ones(STARTING), None)
    share = usual_start(clicks, index.level, section, start)
    busy = _teachers(clicks, section, sections, start)
    busy = busy[:: max(1, len(busy) // SAMPLED_PAGES)]
    spread = natural_spread(clicks[busy].astype(np.float64), _expected(section[busy], start[busy], index, share))
    return _Common(index, share, spread)


def _changes(
    clicks: NDArray[np.number], section: Whole, start: Whole, common: _Common, *, rising: bool, level: float = 0.05
) -> pd.DataFrame:
    """As `lasting_changes`, with what the pages have in common."""
    if common.spread is None:
        return _finished(pd.DataFrame(index=pd.RangeIndex(len(clicks)), columns=COLUMNS), np.full(len(clicks), np.nan), level)
    parts = [
        _judged(clicks[at : at + AT_ONCE], section[at : at + AT_ONCE], start[at : at + AT_ONCE], common.index, common.share, common.spread, rising)
        for at in range(0, len(clicks), AT_ONCE)
    ]
    table = pd.concat(parts, ignore_index=True)
    return _finished(table, table.pop("p").to_numpy(), level)


def _finished(table: pd.DataFrame, p: Floats, level: float) -> pd.DataFrame:
    table["q_value"] = false_discovery(p)
    table["real"] = table["q_value"].lt(level) & table["q_value"].notna()
    table["kind"] = table["kind"].where(table["real"], "")
    return table[COLUMNS]


def _expected(section: Whole, start: Whole, index: Index, share: Floats) -> Floats:
    """Pages x weeks: expected clicks of a page of level 1; 0 in weeks before its start or without information."""
    weeks = index.level.shape[1]
    table = index.level[section]
    lived = np.ones(table.shape, dtype=bool)
    young = np.flatnonzero(start > 0)
    if len(young):
        age = np.arange(weeks)[None, :] - start[young][:, None]
        table[young] = table[young] * np.where(age < STARTING, share[np.clip(age, 0, STARTING - 1)], 1.0)
        # starts vary widely: without a usual start to compare with, the first weeks carry no information
        lived[young] = age >= (1 if share[0] < 1.0 else BEFORE)
    alive: Floats = np.where(lived, table, 0.0)
    return alive


def _judged(
    clicks: NDArray[np.number], section: Whole, start: Whole, index: Index, share: Floats, spread: Spread, rising: bool
) -> pd.DataFrame:
    weeks = clicks.shape[1]
    raw = clicks.astype(np.float64)
    expected = _expected(section, start, index, share)
    table = without_spikes(raw, expected)
    before, after, e0, e1 = before_and_after(table, expected)
    mean = before * e1 / np.maximum(e0, 1e-9)
    candidates = np.arange(BEFORE, weeks - AFTER + 1)
    enough = (candidates[None, :] - start[:, None] >= BEFORE + (start > 0)[:, None]) & (mean > 0)
    # squared error of log(mean): counting, variation of pages, and the uncertain season of the section
    doubt = 1 / np.maximum(before, 0.5) + spread.of_pages(raw, expected) + 2 * index.error.mean(axis=1)[section][:, None]
    step = 2 * (np.sqrt(after + 0.375) - np.sqrt(mean + 0.375)) / np.sqrt(1 + mean * doubt)
    step = np.where(enough, -step if rising else step, np.inf)
    at = step.argmin(axis=1)
    row = np.arange(len(raw))
    x, m, v = after[row, at], mean[row, at], doubt[row, at]
    size = 1 / v
    # the tail of a negative binomial by the incomplete beta function
    chance = m / (m + size)
    below = special.betainc(size, x + 1, 1 - chance)
    above = special.betainc(np.maximum(x, 1e-9), size, chance)
    tail = above if rising else below
    p = np.minimum(tail * looks(tail, weeks), 1.0)
    last, e_last = raw[:, -LATELY:].sum(axis=1), expected[:, -LATELY:].sum(axis=1)
    usual = m / np.maximum(e1[row, at], 1e-9) * e_last
    ratio = x / np.maximum(m, 1e-9)
    halfway = usual * (1 + ratio) / 2
    lasting = last >= halfway if rising else last <= np.maximum(halfway, np.where(ratio < 0.5, usual * COME_BACK, 0.0))
    lasting &= ~_as_last_year(table, expected, start, ratio, onset_at=candidates[at], rising=rising)
    known = np.isfinite(step[row, at]) & ((x if rising else m) >= LEAST_EXPECTED)
    p = np.where(known, np.where(lasting, p, 1.0), np.nan)
    onset = candidates[at]
    likely = np.flatnonzero(np.nan_to_num(p, nan=1.0) < LIKELY)
    onset[likely] = _likeliest(table[likely], expected[likely])
    x, m, v = (of[row, onset - BEFORE] for of in (after, mean, doubt))  # the size is that at the week of the change
    wide, after_weeks = WIDE * np.sqrt(v + 1 / (x + 0.5)), weeks - onset
    result = pd.DataFrame(
        {
            "kind": "rise" if rising else "collapse",
            "onset": onset,
            "weeks": weeks - onset,
            "before": m / after_weeks,
            "after": x / after_weeks,
            "depth": 1 - x / np.maximum(m, 1e-9),
            "depth_low": 1 - (x + 0.5) / np.maximum(m, 1e-9) * np.exp(wide),
            "depth_high": 1 - (x + 0.5) / np.maximum(m, 1e-9) * np.exp(-wide),
            "p": p,
        }
    )
    if not rising:
        slow, began_falling = _slow(table[likely], expected[likely], onset[likely])
        kind = result["kind"].to_numpy(dtype=object)
        kind[likely[slow]] = "slow decay"
        result["kind"] = kind
        onset[likely[slow]] = began_falling[slow]
        result["onset"], result["weeks"] = onset, weeks - onset
    result.loc[~known, ["onset", "weeks", "before", "after", "depth", "depth_low", "depth_high"]] = np.nan
    return result


def looks(tail: Floats, weeks: int) -> Floats:
    """The effective number of independent tests in the choice of the best candidate week, for a tail as small as that of the best.

    Steps at neighbouring weeks share most of their clicks. Standardised, they behave like a Brownian bridge, whose probability of exceeding
    z anywhere is Q(z) + z phi(z) L / 2, with L the range of candidate weeks in log odds (Siegmund 1985, Sequential Analysis, ch. 4), times
    exp(-0.583 z d) because weeks are a step d apart (ch. 10). A share STILL_THERE of such steps lasts into the last weeks. With it, false
    discoveries are at the nominal rate for 26 to 260 weeks (benchmarks/lasting.py).
    """
    first, last = BEFORE / weeks, 1 - AFTER / weeks
    odds = float(np.log(last / (1 - last) * (1 - first) / first))
    z = np.clip(-special.ndtri(np.clip(tail, 1e-300, 0.5)), 1.0, None)
    apart = np.sqrt(odds / max(weeks - BEFORE - AFTER, 1))
    density = z * np.exp(-0.5 * z**2 - special.log_ndtr(-z)) / np.sqrt(2 * np.pi)  # z phi(z) / Q(z), also in the far tail
    number: Floats = 1 + STILL_THERE * np.exp(-0.583 * z * apart) * density * odds / 2
    return number


def _as_last_year(clicks: Floats, expected: Floats, start: Whole, ratio: Floats, *, onset_at: Whole, rising: bool) -> NDArray[np.bool_]:
    """Where a change is the season of the page: the same weeks a year earlier were no better (or, for a rise, no worse).

    Requires in both years at least LATELY of these weeks before and after the change, and LEAST_EXPECTED clicks. A page that was new
    a year earlier cannot be distinguished from one with a season, and is not flagged.
    """
    weeks = clicks.shape[1]
    common = weeks - YEAR
    if common < LATELY:
        return np.zeros(len(clicks), dtype=bool)
    time = np.arange(common)[None, :]
    both = (time + YEAR >= onset_at[:, None]) & (time >= start[:, None]) & (time < onset_at[:, None])
    now, then = (clicks[:, YEAR:] * both).sum(axis=1), (clicks[:, :common] * both).sum(axis=1)
    e_now, e_then = (expected[:, YEAR:] * both).sum(axis=1), (expected[:, :common] * both).sum(axis=1)
    usual = then * e_now / np.maximum(e_then, 1e-9)
    halfway = (1 + ratio) / 2 * usual
    known = (both.sum(axis=1) >= LATELY) & (np.maximum(now, usual) >= LEAST_EXPECTED)
    same: NDArray[np.bool_] = known & (now < halfway if rising else now > halfway)
    return same


def _likeliest(clicks: Floats, expected: Floats) -> Whole:
    """The candidate week that best splits the clicks of a page into two levels (Poisson likelihood)."""
    weeks = clicks.shape[1]
    candidates = np.arange(BEFORE, weeks - AFTER + 1)
    before, e0 = (np.cumsum(table, axis=1)[:, candidates - 1] for table in (clicks, expected))
    after, e1 = clicks.sum(axis=1)[:, None] - before, expected.sum(axis=1)[:, None] - e0
    with np.errstate(divide="ignore", invalid="ignore"):
        likely = special.xlogy(before, before / e0) + special.xlogy(after, after / e1)
    chosen: Whole = candidates[np.where((e0 > 0) & np.isfinite(likely), likely, -np.inf).argmax(axis=1)]
    return chosen


def _slow(clicks: Floats, expected: Floats, onset: Whole) -> tuple[NDArray[np.bool_], Whole]:
    """Which falls are spread over weeks rather than sudden, and when they began: the best of straight ramps and a step, by likelihood."""
    weeks = clicks.shape[1]
    time = np.arange(weeks)[None, :]
    before = time < onset[:, None]
    high = (clicks * before).sum(axis=1) / np.maximum((expected * before).sum(axis=1), 1e-9)
    low = (clicks * ~before).sum(axis=1) / np.maximum((expected * ~before).sum(axis=1), 1e-9)
    best, length, first = np.full(len(clicks), -np.inf), np.zeros(len(clicks), dtype=np.int64), onset.astype(np.int64).copy()
    for ramp in SLOW_WEEKS:
        for shift in (-0.75, -0.5, -0.25, 0.0) if ramp else (0.0,):
            begin = onset + round(shift * ramp)
            fallen = np.clip((time - begin[:, None] + (0.5 if ramp else 1e9)) / max(ramp, 1), 0, 1) * (time >= begin[:, None])
            done = fallen >= 1
            end = np.where(done.any(axis=1), (clicks * done).sum(axis=1) / np.maximum((expected * done).sum(axis=1), 1e-9), low * 0.6)
            rate = np.maximum(expected * (high[:, None] + (end - high)[:, None] * fallen), 1e-3)
            likely = (clicks * np.log(rate) - rate).sum(axis=1) - (RAMP_PENALTY if ramp else 0.0)
            better = likely > best
            best, length, first = np.where(better, likely, best), np.where(better, ramp, length), np.where(better, begin, first)
    return length > 0, np.maximum(first, 1)


#: least number of pages at the same age to compare a start with
PEERS = 20


def start_rank(clicks: NDArray[np.number], section: Whole, began: Whole, level: Floats) -> Floats:
    """How new pages have started: the share of pages of the site that had fewer clicks at the same age; NaN for pages that are not new.

    Args:
        clicks: pages x weeks; section, level: from `section_index`, so that a start in the high season is not overrated;
            began: first week of each page, 0 for those older than the data.
    Returns:
        A share 0 to 1 per page of at most STARTING weeks, among all pages that began within the data and reached that age; NaN where
        fewer than PEERS did.
    """
    weeks = clicks.shape[1]
    rank = np.full(len(clicks), np.nan)
    born = np.flatnonzero(began > 0)
    if len(born) < PEERS:
        return rank
    time = np.arange(weeks)[None, :]
    lived = np.where(time >= began[born][:, None], clicks[born] / level[section[born]], 0.0)
    total = np.cumsum(lived, axis=1)
    age = weeks - began[born]
    for one in np.unique(age[age <= STARTING]):  # a new page is compared with all pages at its age
        there = age >= one
        if there.sum() < PEERS:
            continue
        so_far = total[np.flatnonzero(there), began[born][there] + one - 1]
        mine = np.flatnonzero(age[there] == one)
        order = np.sort(so_far)
        rank[born[there][mine]] = (
            (np.searchsorted(order, so_far[mine], "left") + np.searchsorted(order, so_far[mine], "right")) / 2 / len(order)
        )
    return rank


TRENDS = [
    "page",
    "kind",
    "since",
    "weeks",
    "before",
    "after",
    "depth",
    "depth_low",
    "depth_high",
    "q_value",
    "real",
    "life",
    "age_weeks",
    "start_rank",
    "event_from",
    "event_to",
    "event_share",
]


def trends(clicks: NDArray[np.number], section: Whole, began: Whole, ends: pd.DatetimeIndex) -> pd.DataFrame:
    """The development of every page: a lasting fall or rise, evergreen or short-lived, and the start of a new page.

    Args:
        clicks: pages x whole weeks; section; began: first week, 0 for pages older than the data; ends: the last day of each week.
    Returns:
        TRENDS without the page, and event_sure, in the order of the pages. event_from, event_to and event_share describe an event that is
        over, or a short season that the data contain once if it is not sure (see `core.life.events_of_pages`). `since` is the first day of
        the week in which the level changed. Of a fall and a rise the more significant is given; `real` means that it lasts.
    """
    common = _common(clicks, section, began)
    fall, rise = (_changes(clicks, section, began, common, rising=rising) for rising in (False, True))
    up = (rise["q_value"].fillna(1.0) < fall["q_value"].fillna(1.0)).to_numpy()
    table = pd.concat([fall[~up], rise[up]]).sort_index()
    onset = table.pop("onset").astype("float64")
    first = ends - pd.Timedelta(days=6)
    table["since"] = pd.Series(first[np.clip(onset.fillna(0), 0, len(ends) - 1).astype(int)], index=table.index).where(
        onset.notna() & table["real"].astype(bool)
    )
    table["life"] = life_of_pages(clicks, began)
    table["age_weeks"] = np.where(began > 0, clicks.shape[1] - began, np.nan)
    table["start_rank"] = start_rank(clicks, section, began, common.index.level)
    event = events_of_pages(clicks, began)
    over = event["event"].to_numpy()
    table["event_from"] = pd.Series(first[event["first"]], index=table.index).where(over)
    table["event_to"] = pd.Series(ends[event["last"]], index=table.index).where(over)
    table["event_share"] = event["share"].where(over).to_numpy()
    table["event_sure"] = event["sure"].to_numpy()
    numbers = ["weeks", "before", "after", "depth", "depth_low", "depth_high", "q_value"]
    return table.astype(dict.fromkeys(numbers, "float64") | {"real": bool, "kind": "str", "life": "str"})[[*TRENDS[1:], "event_sure"]]
