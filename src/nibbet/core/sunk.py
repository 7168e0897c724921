"""Which pages sank further than places wander on their site."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import special

Floats = NDArray[np.float64]

#: pages that moved from which a site tells how far places wander; least spread of what that costs or gives (of the logarithm of clicks)
TELLING_PAGES, LEAST_WANDER = 20, 0.05
#: times the median distance from the middle that a standard deviation is, of a normal distribution
MAD = 1.4826
#: a change of pull beyond this (of the logarithm) is a new title or an answer above the results, and tells nothing of the curve; as much as so
#: many pages with usual moves the slope is drawn to 0
USUAL_PULL, ASSUMED = 1.0, 10.0


def wander(moves: Floats) -> float:
    """How far rows move by chance (a standard deviation), by those above the middle alone: among those below are some that sank.

    The chance moves are taken to be symmetric, so that one side tells them (an empirical null: Efron 2004, J. Am. Stat. Assoc. 99:96).
    Infinite under TELLING_PAGES rows.
    """
    if len(moves) < TELLING_PAGES:
        return np.inf
    above = moves - np.median(moves)
    return float(max(MAD * np.median(above[above >= 0]), LEAST_WANDER))


def sunk(by_rank: Floats, by_pull: Floats, counting: Floats, telling: NDArray[np.bool_]) -> tuple[Floats, Floats]:
    """What each page lost by its places, and the chance of so much by their wandering alone.

    Args:
        by_rank, by_pull: what rank and pull did to the page's clicks, as changes of their logarithm; counting: variance of their sum by counting;
        telling: pages whose change tells it.
    Returns:
        Loss (of the logarithm, positive for a fall) and p-value (1 where nothing is told). Where pages that moved are chosen less or more for it
        than the curve has it, the site's own slope of pull on rank is counted in (weighted least squares).
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
