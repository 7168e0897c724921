"""Clicks against clicks expected: is a page chosen as usual for its place?"""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import stats

Floats = NDArray[np.float64]

#: with fewer expected clicks nothing can be said of a rate: it is marked thin
THIN_CLICKS = 3.0
#: a page's clicks stray from their expectation by this much beyond counting noise (coefficient of variation)
ROW_SPREAD = 0.2


def spread_of(clicks: Floats, expected: Floats) -> float:
    """How far true pulls differ between rows (a standard deviation), by moments over rows with enough expected clicks.

    Counting noise is taken off; never under 0.05, so that shrinkage stays defined.
    """
    enough = expected >= 5
    if enough.sum() < 8:
        return 0.3
    ratio, weight = clicks[enough] / expected[enough], np.minimum(expected[enough], 200.0)
    centre = np.average(ratio, weights=weight)
    excess = np.average((ratio - centre) ** 2, weights=weight) - np.average(ratio / expected[enough], weights=weight)
    return float(np.sqrt(max(excess, 0.05**2)))


def shrunk_pull(clicks: Floats, expected: Floats) -> Floats:
    """pull = clicks / expected, drawn to 1 where little is expected: the mean of a gamma-Poisson model; NaN without expectation."""
    prior = 1.0 / spread_of(clicks, expected) ** 2
    return np.where(expected > 0, (clicks + prior) / (expected + prior), np.nan)


def pull_interval(clicks: Floats, expected: Floats, *, level: float = 0.95) -> tuple[Floats, Floats]:
    """(low, high) of the true pull, unshrunk: a gamma with mean clicks / expected, counting noise and row noise together."""
    mean = (clicks + 0.5) / np.maximum(expected, 1e-9)
    shape = 1.0 / (1.0 / (clicks + 0.5) + ROW_SPREAD**2 / np.maximum(np.sqrt(expected), 1.0))
    return stats.gamma.ppf((1 - level) / 2, shape, scale=mean / shape), stats.gamma.ppf((1 + level) / 2, shape, scale=mean / shape)


def too_low_p(clicks: Floats, expected: Floats, *, below: float) -> Floats:
    """p-value of "the true pull is at least `below`": small means chosen too seldom.

    Negative binomial tail with the row noise as its spread; 1 under 3 expected clicks, where nothing can be said.
    """
    mean = np.maximum(below * expected, 1e-9)
    size = np.maximum(np.sqrt(np.maximum(expected, 1.0)), 1.0) / ROW_SPREAD**2
    tail = stats.nbinom.cdf(clicks, size, size / (size + mean))
    return np.where(expected >= THIN_CLICKS, tail, 1.0)


def false_discovery(p_values: Floats) -> Floats:
    """q-values of Benjamini and Hochberg 1995 (J. R. Stat. Soc. B 57:289); NaN stays NaN."""
    known = np.isfinite(p_values)
    q = np.full(len(p_values), np.nan)
    if known.any():
        q[known] = stats.false_discovery_control(np.clip(p_values[known], 0, 1))
    return q


def weighted_position(position_sum: pd.Series, placed: pd.Series) -> pd.Series:
    """sum(position x impressions) / sum(impressions with a position); null without."""
    return position_sum / placed.where(placed > 0)
