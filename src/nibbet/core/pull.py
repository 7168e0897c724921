"""Clicks against clicks expected: is a page chosen as usual for its place?"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from nibbet.core.tables import THIN_CLICKS

Floats = NDArray[np.float64]

#: a page's clicks stray from their expectation by this much beyond counting noise (coefficient of variation)
ROW_SPREAD = 0.2
#: what true pulls differ by where too few rows tell it, and at least; expected clicks from which a row tells it, rows that it takes, and the most
#: that one row weighs
USUAL_SPREAD, LEAST_SPREAD = 0.3, 0.05
TELLING, TELLING_ROWS, MOST_WEIGHT = 5, 8, 200.0
#: the same for telling usual rows from badly chosen ones; where that fit begins; at most this share is badly chosen
SURE, SURE_ROWS, START, MOST_BAD = 20, 20, 0.25, 0.25
#: the variance of a normal distribution over that of the part within CUT spreads
CUT, WHOLE = 3, 1.014


def spread_of(clicks: Floats, expected: Floats) -> float:
    """How far true pulls differ between rows (a standard deviation), by moments over rows with enough expected clicks.

    Counting noise is taken off; never under 0.05, so that shrinkage stays defined.
    """
    enough = expected >= TELLING
    if enough.sum() < TELLING_ROWS:
        return USUAL_SPREAD
    ratio, weight = clicks[enough] / expected[enough], np.minimum(expected[enough], MOST_WEIGHT)
    centre = np.average(ratio, weights=weight)
    excess = np.average((ratio - centre) ** 2, weights=weight) - np.average(ratio / expected[enough], weights=weight)
    return float(np.sqrt(max(excess, LEAST_SPREAD**2)))


#: pages badly chosen have about this share of the usual pull, with this spread of its logarithm; one in so many may be one before we look
BAD_PULL, BAD_SPREAD, BAD_SHARE = 0.45, 0.35, 0.04


class Usual(NamedTuple):
    """The pull of usual rows: its mean, how far it differs (coefficient of variation); poor: the share of rows that are chosen too seldom."""

    pull: float
    spread: float
    poor: float


def _parts(rest: Floats, variance: Floats, poor: float) -> tuple[Floats, Floats]:
    """How likely rows with these logarithms of pull over the usual are usual, and how likely poor (densities, up to a factor of both)."""
    off = variance + BAD_SPREAD**2
    usual = (1 - poor) * np.exp(-(rest**2) / 2 / variance) / np.sqrt(variance)
    return usual, poor * np.exp(-((rest - np.log(BAD_PULL)) ** 2) / 2 / off) / np.sqrt(off)


def usual_pull(clicks: Floats, expected: Floats) -> Usual:
    """The pull of usual rows, those chosen too seldom kept apart.

    By the EM algorithm (Dempster, Laird & Rubin 1977, J. R. Stat. Soc. B 39:1) on log(clicks / expected) of rows with 20 expected clicks and
    more: usual rows are normal around a centre with counting noise and a spread, others lie about BAD_PULL below. 1, 0.3 and BAD_SHARE where
    under 20 rows tell; the spread is never under 0.05.
    """
    enough = (expected >= SURE) & (clicks > 0)
    if enough.sum() < SURE_ROWS:
        return Usual(1.0, USUAL_SPREAD, BAD_SHARE)
    counting = 1 / expected[enough]
    ratio = np.log(clicks[enough] / expected[enough])
    centre, spread, share = float(np.median(ratio)), START, BAD_SHARE
    for _ in range(40):
        variance = counting + spread**2
        rest = ratio - centre
        usual, bad = _parts(rest, variance, share)
        weight = np.where(np.abs(rest) < CUT * np.sqrt(variance), usual / np.maximum(usual + bad, 1e-300), 0.0)
        share = float((len(ratio) * (1 - weight.mean()) + SURE_ROWS * BAD_SHARE) / (len(ratio) + SURE_ROWS))
        share = min(share, MOST_BAD)
        centre = float(np.average(ratio, weights=weight / variance + 1e-12))
        excess = np.average((ratio - centre) ** 2 / variance, weights=weight + 1e-12) * WHOLE
        spread = float(np.clip(np.sqrt(max(excess * (spread**2 + np.median(counting)) - np.median(counting), 0.0)), LEAST_SPREAD, 1.0))
    return Usual(float(np.exp(centre + spread**2 / 2)), spread, share)


def chance_poor(clicks: Floats, usual: Floats, spread: float, poor: float) -> Floats:
    """The chance that a page lacks clicks by its title, and not by its own kind or by luck.

    Args:
        clicks; usual: those it would have were it usual; spread, poor: as `usual_pull` finds them, whose two parts are weighed here.
    """
    rest = np.log((clicks + 0.5) / np.maximum(usual, 1e-9))
    variance = 1 / np.maximum(usual, 1e-9) + spread**2
    likely, off = _parts(rest, variance, poor)
    chance: Floats = np.where(rest < -CUT * np.sqrt(variance), 1.0, np.where(rest < 0, off / np.maximum(likely + off, 1e-300), 0.0))
    return chance


def left_when_mended(clicks: Floats, usual: Floats, spread: float) -> Floats:
    """What part of the usual clicks a page that is chosen too seldom can hope for once its title is mended, at most 1.

    A poor title takes about BAD_PULL; what lies below that is in part of the page's own kind, as far as pages differ by `spread` beside how far
    poor titles do and beside counting (the mean of two normal parts whose sum is seen).
    """
    beyond = np.log((clicks + 0.5) / np.maximum(usual, 1e-9) / BAD_PULL)
    part: Floats = np.exp(np.minimum(beyond, 0.0) * spread**2 / (spread**2 + BAD_SPREAD**2 + 1 / (clicks + 0.5)))
    return part


#: the spread is an estimate from a mixture: so much wider keeps false alarms at their rate
WIDER = 1.05
#: columns of `judged_pull`
JUDGED = ["pull", "pull_low", "pull_high", "q_value", "flag", "lost", "lost_low", "lost_high"]


def judged_pull(clicks: Floats, expected: Floats, *, level: float = 0.05) -> pd.DataFrame:
    """Pull with its interval, and which rows are chosen too seldom or more than usual.

    Args:
        clicks, expected: counts per row; level: share of false ones to allow on each side (Benjamini & Hochberg).
    Returns:
        JUDGED: pull (shrunk), its 95% interval, q_value of the nearer side, flag (low, high or ""), lost: clicks under what is expected at
        usual choice (negative where it has more), with its 95% interval. A usual row's clicks are negative binomial: counting noise, and
        pulls that differ as `usual_pull` finds; what that explains is no fault of a title. Under THIN_CLICKS expected nothing is said.
    """
    usual, spread, _ = usual_pull(clicks, expected)
    known = expected >= THIN_CLICKS
    mean = np.maximum(expected * usual, 1e-9)
    size = 1 / (WIDER * spread) ** 2
    low, high = np.full((2, len(clicks)), np.nan)
    low[known] = _at_most(clicks[known], mean[known], size)
    high[known] = special.betainc(np.maximum(clicks[known], 1e-9), size, mean[known] / (size + mean[known]))
    q_low, q_high = false_discovery(low), false_discovery(high)
    under = low < high
    q = np.where(under, q_low, q_high)
    counts, row = np.unique(clicks, return_inverse=True)  # many rows have equal counts, and quantiles are dear
    ends = [special.gammaincinv(counts + 0.5, part)[row] / np.maximum(expected, 1e-9) for part in (0.025, 0.975)]
    flag = np.where(known & (q < level), np.where(under, "low", "high"), "")
    frame = pd.DataFrame({"pull": shrunk_pull(clicks, expected), "pull_low": ends[0], "pull_high": ends[1], "q_value": q, "flag": flag})
    frame["lost"], frame["lost_low"], frame["lost_high"] = expected - clicks, expected * (1 - ends[1]), expected * (1 - ends[0])
    frame.loc[~known, ["pull_low", "pull_high", "lost_low", "lost_high"]] = np.nan
    return frame[JUDGED]


def shrunk_pull(clicks: Floats, expected: Floats) -> Floats:
    """pull = clicks / expected, drawn to 1 where little is expected: the mean of a gamma-Poisson model; NaN without expectation."""
    prior = 1.0 / spread_of(clicks, expected) ** 2
    return np.where(expected > 0, (clicks + prior) / (expected + prior), np.nan)


#: how far the pulls of a page's queries differ beside counting (coefficient of variation), and the chance under which one of them is out of line
QUERY_SPREAD, OUT_OF_LINE = 0.3, 0.01


def out_of_line(page: NDArray[np.int64], clicks: Floats, expected: Floats) -> NDArray[np.bool_]:
    """Queries for which a page is chosen far less than for all its others: something else takes their clicks, for a title is seen with every query.

    Args:
        page: number of each row's page; clicks, expected: counts of the row.
    Returns:
        Where the clicks of a row lie in the tail of a negative binomial whose mean is what the rest of its page has (drawn to the usual as by one
        expected click), with QUERY_SPREAD as its spread.
    """
    if not len(page):
        return np.zeros(0, dtype=bool)
    sums = [np.bincount(page, of)[page] - of for of in (clicks, expected)]
    mean = np.maximum(expected * (sums[0] + 1) / (sums[1] + 1), 1e-9)
    return _at_most(clicks, mean, 1 / QUERY_SPREAD**2) < OUT_OF_LINE


def _at_most(clicks: Floats, mean: Floats, size: float | Floats) -> Floats:
    """The chance of so few clicks: the tail of a negative binomial (gamma-mixed Poisson) of this mean and size, 1 / size the square of its spread."""
    tail: Floats = special.betainc(size, np.floor(clicks) + 1, size / (size + mean))
    return tail


def pull_interval(clicks: Floats, expected: Floats, *, level: float = 0.95) -> tuple[Floats, Floats]:
    """(low, high) of the true pull, unshrunk: a gamma with mean clicks / expected, counting noise and row noise together."""
    mean = (clicks + 0.5) / np.maximum(expected, 1e-9)
    shape = 1.0 / (1.0 / (clicks + 0.5) + ROW_SPREAD**2 / np.maximum(np.sqrt(expected), 1.0))
    low, high = (special.gammaincinv(shape, part) * mean / shape for part in ((1 - level) / 2, (1 + level) / 2))
    return low, high


def too_low_p(clicks: Floats, expected: Floats, *, below: float) -> Floats:
    """p-value of "the true pull is at least `below`": small means chosen too seldom.

    Negative binomial tail with the row noise as its spread; 1 under 3 expected clicks, where nothing can be said.
    """
    mean = np.maximum(below * expected, 1e-9)
    size = np.maximum(np.sqrt(np.maximum(expected, 1.0)), 1.0) / ROW_SPREAD**2
    return np.where(expected >= THIN_CLICKS, _at_most(clicks, mean, size), 1.0)


def false_discovery(p_values: Floats) -> Floats:
    """q-values of Benjamini and Hochberg 1995 (J. R. Stat. Soc. B 57:289); NaN stays NaN."""
    known = np.isfinite(p_values)
    q = np.full(len(p_values), np.nan)
    if known.any():
        given = np.clip(p_values[known], 0, 1)
        order = np.argsort(-given)
        count = len(given)
        adjusted = np.empty(count)
        adjusted[order] = np.minimum.accumulate(given[order] * count / np.arange(count, 0, -1))
        q[known] = np.minimum(adjusted, 1.0)
    return q


def weighted_position(position_sum: pd.Series, placed: pd.Series) -> pd.Series:
    """sum(position x impressions) / sum(impressions with a position); null without."""
    return position_sum / placed.where(placed > 0)
