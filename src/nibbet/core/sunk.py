"""Pages that sank further than positions wander on their site."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import special

Floats = NDArray[np.float64]

#: pages that moved from which the wander of positions is estimated; least wander (standard deviation of the logarithm of clicks)
TELLING_PAGES, LEAST_WANDER = 20, 0.05
#: standard deviation / median absolute deviation of a normal distribution
MAD = 1.4826
#: a larger change of pull (of the logarithm) is due to a new title or an answer box and is left out; weight, in pages with usual moves, of
#: the prior slope 0
USUAL_PULL, ASSUMED = 1.0, 10.0


def wander(moves: Floats) -> float:
    """The standard deviation of random moves, estimated only from rows above the median: some of those below have truly sunk.

    Random moves are assumed symmetric, so one side suffices (an empirical null: Efron 2004, J. Am. Stat. Assoc. 99:96).
    Infinite for fewer than TELLING_PAGES rows.
    """
    if len(moves) < TELLING_PAGES:
        return np.inf
    above = moves - np.median(moves)
    return float(max(MAD * np.median(above[above >= 0]), LEAST_WANDER))


def sunk(by_rank: Floats, by_pull: Floats, counting: Floats, telling: NDArray[np.bool_]) -> tuple[Floats, Floats]:
    """The loss of each page by rank, and the p-value of such a loss by wander alone.

    Args:
        by_rank, by_pull: effect of rank and pull on the clicks of the page, as changes of their logarithm; counting: counting variance of
            their sum;
        telling: pages with enough data.
    Returns:
        Loss (of the logarithm, positive for a fall) and p-value (1 without enough data). Where the pull of pages that moved deviates from
        the curve, the slope of pull on rank of this site is included (weighted least squares).
    """
    moved = telling & (by_rank != 0)
    spread = wander(by_rank[moved])
    if not np.isfinite(spread):
        return -by_rank, np.ones(len(by_rank))
    rows = moved & (np.abs(by_pull) < USUAL_PULL)
    weight = 1 / (counting[rows] + spread**2)
    x, y = (part[rows] - np.average(part[rows], weights=weight) for part in (by_rank, by_pull))
    slope = float(np.clip((weight * x * y).sum() / ((weight * x**2).sum() + ASSUMED * weight.mean() * spread**2), -0.5, 0.5))
    return -by_rank * (1 + slope), np.where(telling, special.ndtr(by_rank / spread), 1.0)
