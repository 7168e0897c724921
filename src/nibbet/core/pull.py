"""Pull: clicks relative to the clicks expected at a position."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from nibbet.core.tables import THIN_CLICKS

Floats = NDArray[np.float64]

#: variation of the clicks of a page around their expectation beyond counting noise (coefficient of variation)
ROW_SPREAD = 0.2
#: spread of true pulls where too few rows give it, and at least; expected clicks from which a row counts, least number of rows, and largest
#: weight of a row
USUAL_SPREAD, LEAST_SPREAD = 0.3, 0.05
TELLING, TELLING_ROWS, MOST_WEIGHT = 5, 8, 200.0
#: the same for separating usual rows from rows with poor pull; starting value of the fit; largest share of poor rows
SURE, SURE_ROWS, START, MOST_BAD = 20, 20, 0.25, 0.25
#: variance of a normal distribution relative to that of its part within CUT standard deviations
CUT, WHOLE = 3, 1.014


def spread_of(clicks: Floats, expected: Floats) -> float:
    """Standard deviation of true pulls between rows, by the method of moments over rows with enough expected clicks.

    Counting noise is subtracted. Never below 0.05, so that shrinkage stays defined.
    """
    enough = expected >= TELLING
    if enough.sum() < TELLING_ROWS:
        return USUAL_SPREAD
    ratio, weight = clicks[enough] / expected[enough], np.minimum(expected[enough], MOST_WEIGHT)
    centre = np.average(ratio, weights=weight)
    excess = np.average((ratio - centre) ** 2, weights=weight) - np.average(ratio / expected[enough], weights=weight)
    return float(np.sqrt(max(excess, LEAST_SPREAD**2)))


#: pages with poor pull have about this share of the usual pull, with this spread of its logarithm; prior share of such pages
BAD_PULL, BAD_SPREAD, BAD_SHARE = 0.45, 0.35, 0.04


class Usual(NamedTuple):
    """The pull of usual rows: its mean and spread (coefficient of variation). poor: the share of rows with poor pull."""

    pull: float
    spread: float
    poor: float


def _share_poor(rest: Floats, variance: Floats, poor: float) -> Floats:
    """The probability that rows with these logarithms of pull relative to the usual are poor, not usual (Bayes' rule for two normal
    distributions; poor: the prior).
    """
    off = variance + BAD_SPREAD**2
    log_odds = np.log(poor / (1 - poor)) + (rest**2 / variance - (rest - np.log(BAD_PULL)) ** 2 / off + np.log(variance / off)) / 2
    share: Floats = special.expit(log_odds)
    return share


def usual_pull(clicks: Floats, expected: Floats) -> Usual:
    """The pull of usual rows, separated from rows with poor pull.

    By the EM algorithm (Dempster, Laird & Rubin 1977, J. R. Stat. Soc. B 39:1) on log(clicks / expected) of rows with at least 20 expected
    clicks: usual rows are normal around a centre, with counting noise and a spread; others lie about BAD_PULL below. Returns 1, 0.3 and
    BAD_SHARE for fewer than 20 rows; the spread is never below 0.05.
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
        weight = np.where(np.abs(rest) < CUT * np.sqrt(variance), 1 - _share_poor(rest, variance, share), 0.0)
        share = float((len(ratio) * (1 - weight.mean()) + SURE_ROWS * BAD_SHARE) / (len(ratio) + SURE_ROWS))
        share = min(share, MOST_BAD)
        centre = float(np.average(ratio, weights=weight / variance + 1e-12))
        excess = np.average((ratio - centre) ** 2 / variance, weights=weight + 1e-12) * WHOLE
        spread = float(np.clip(np.sqrt(max(excess * (spread**2 + np.median(counting)) - np.median(counting), 0.0)), LEAST_SPREAD, 1.0))
    return Usual(float(np.exp(centre + spread**2 / 2)), spread, share)


def chance_poor(clicks: Floats, usual: Floats, spread: float, poor: float) -> Floats:
    """The probability that a page has too few clicks because of its title, not by its nature or by chance.

    Args:
        clicks; usual: clicks at usual pull; spread, poor: from `usual_pull`, the weights of the two components.
    """
    rest = np.log((clicks + 0.5) / np.maximum(usual, 1e-9))
    variance = 1 / np.maximum(usual, 1e-9) + spread**2
    chance: Floats = np.where(rest < 0, _share_poor(rest, variance, poor), 0.0)
    return chance


def quantile_of_chance(end: float, chance: Floats, middle: Floats, spread: Floats) -> Floats:
    """The quantile `end` of gains that are normal, and at least 0, with probability `chance`, else 0."""
    inner = (end - (1 - chance)) / np.maximum(chance, 1e-9)
    gain = np.maximum(middle + special.ndtri(np.clip(inner, 1e-9, 1 - 1e-9)) * spread, 0.0)
    quantile: Floats = np.where(inner > 0, gain, 0.0)
    return quantile


def left_when_mended(clicks: Floats, usual: Floats, spread: float) -> Floats:
    """The share of the usual clicks, at most 1, that a page with low pull can reach with a better title.

    A poor title has about BAD_PULL. A deficit beyond that is partly the nature of the page, in proportion to the `spread` of pages relative
    to the spread of poor titles and counting noise (conditional mean of one of two normal variables whose sum is observed).
    """
    beyond = np.log((clicks + 0.5) / np.maximum(usual, 1e-9) / BAD_PULL)
    part: Floats = np.exp(np.minimum(beyond, 0.0) * spread**2 / (spread**2 + BAD_SPREAD**2 + 1 / (clicks + 0.5)))
    return part


def nature_spread(clicks: Floats, spread: float) -> Floats:
    """How uncertain the nature of a page with low pull remains, given its clicks: the standard deviation of its logarithm of pull with a usual title.

    Args:
        clicks; spread: of pages (`usual_pull`), the uncertainty without any clicks. Conditional variance of one of two normal variables whose
            sum is observed, as in `left_when_mended`.
    """
    other = BAD_SPREAD**2 + 1 / (clicks + 0.5)
    remaining: Floats = spread * np.sqrt(other / (spread**2 + other))
    return remaining


#: the spread is estimated from a mixture; this factor keeps false alarms at the nominal rate
WIDER = 1.05
#: columns of `judged_pull`
JUDGED = ["pull", "pull_low", "pull_high", "q_value", "flag", "lost", "lost_low", "lost_high"]


def judged_pull(clicks: Floats, expected: Floats, *, level: float = 0.05) -> pd.DataFrame:
    """Pull with its interval, and which rows have a low or high pull.

    Args:
        clicks, expected: counts per row; level: false discovery rate on each side (Benjamini & Hochberg).
    Returns:
        JUDGED: pull (shrunk), its 95% interval, q_value of the nearer side, flag (low, high or ""), and lost: clicks below the expectation
            at usual pull (negative if above), with its 95% interval. The clicks of a usual row are negative binomial: counting noise, and
            pulls with the spread of `usual_pull`; what that explains is no fault of a title. Rows with fewer than THIN_CLICKS expected
            clicks are not judged.
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
    counts, row = np.unique(clicks, return_inverse=True)  # many rows have equal counts, and quantiles are slow
    ends = [special.gammaincinv(counts + 0.5, part)[row] / np.maximum(expected, 1e-9) for part in (0.025, 0.975)]
    flag = np.where(known & (q < level), np.where(under, "low", "high"), "")
    frame = pd.DataFrame({"pull": shrunk_pull(clicks, expected), "pull_low": ends[0], "pull_high": ends[1], "q_value": q, "flag": flag})
    frame["lost"], frame["lost_low"], frame["lost_high"] = expected - clicks, expected * (1 - ends[1]), expected * (1 - ends[0])
    frame.loc[~known, ["pull_low", "pull_high", "lost_low", "lost_high"]] = np.nan
    return frame[JUDGED]


def shrunk_pull(clicks: Floats, expected: Floats) -> Floats:
    """pull = clicks / expected, shrunk to 1 where few clicks are expected: the mean of a gamma-Poisson model; NaN without expectation."""
    prior = 1.0 / spread_of(clicks, expected) ** 2
    return np.where(expected > 0, (clicks + prior) / (expected + prior), np.nan)


#: variation of the pulls of the queries of a page beyond counting (coefficient of variation); p-value below which a query is out of line
QUERY_SPREAD, OUT_OF_LINE = 0.3, 0.01


def out_of_line(page: NDArray[np.int64], clicks: Floats, expected: Floats) -> NDArray[np.bool_]:
    """Queries whose CTR is far below that of all other queries of the page: something else takes their clicks, because a title is seen with
    every query.

    Args:
        page: number of the page of each row; clicks, expected: counts of the row.
    Returns:
        True where the clicks of a row are in the tail of a negative binomial whose mean is the pull of the rest of its page (shrunk to the
        usual by one expected click), with QUERY_SPREAD as its spread.
    """
    if not len(page):
        return np.zeros(0, dtype=bool)
    sums = [np.bincount(page, of)[page] - of for of in (clicks, expected)]
    mean = np.maximum(expected * (sums[0] + 1) / (sums[1] + 1), 1e-9)
    return (sums[1] >= THIN_CLICKS) & (_at_most(clicks, mean, 1 / QUERY_SPREAD**2) < OUT_OF_LINE)


def _at_most(clicks: Floats, mean: Floats, size: float | Floats) -> Floats:
    """Probability of at most so many clicks: the tail of a negative binomial (gamma-mixed Poisson) with this mean and size, 1 / size = spread
    squared.
    """
    tail: Floats = special.betainc(size, np.floor(clicks) + 1, size / (size + mean))
    return tail


def pull_interval(clicks: Floats, expected: Floats, *, level: float = 0.95) -> tuple[Floats, Floats]:
    """(low, high) of the true pull, unshrunk: a gamma with mean clicks / expected and the variance of counting and row noise together."""
    mean = (clicks + 0.5) / np.maximum(expected, 1e-9)
    shape = 1.0 / (1.0 / (clicks + 0.5) + ROW_SPREAD**2 / np.maximum(np.sqrt(expected), 1.0))
    low, high = (special.gammaincinv(shape, part) * mean / shape for part in ((1 - level) / 2, (1 + level) / 2))
    return low, high


def too_low_p(clicks: Floats, expected: Floats, *, below: float) -> Floats:
    """p-value of "the true pull is at least `below`": small for a low pull.

    Negative binomial tail with the row noise as its spread; 1 for fewer than 3 expected clicks, which allow no judgement.
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
