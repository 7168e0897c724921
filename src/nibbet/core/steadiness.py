"""How much the clicks of pages vary by nature between two periods, by how unsteady they are from block to block of weeks."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

#: weeks before a change that define the level, and weeks that must have passed since
BEFORE, AFTER = 8, 4
#: weeks of a year; older weeks do not count toward the level before
YEAR = 52
#: least number of pages that show the variation between pages
LEAST_PAGES = 20
#: variation of busy pages between weeks beyond counting (standard deviation of the logarithm): the least, and the default
LEAST_SPREAD, USUAL_SPREAD = 0.05, 0.25
#: classes of pages by unsteadiness, each of at least LEAST_PAGES; so many pages have the same weight as the variation of all; by how much the
#: logarithms of their variances differ by chance
CLASSES, PRIOR_PAGES, CHANCE_APART = 4, 10, np.log(2.0)
#: weeks of a block, jumps between blocks that one lasting change makes, and least number of others that tell how unsteady a page is
BLOCK, LASTING, JUMPS = 4, 2, 5
#: distance of the quartiles of a normal distribution in standard deviations
QUARTILES = 1.349
#: a week above this multiple of the best quarter of a year, plus so many standard deviations of counting, plus so many clicks, is a spike
SPIKE, SPIKE_SPREADS, SPIKE_CLICKS = 1.6, 4, 3


@dataclass(frozen=True)
class Spread:
    """The natural variation of pages by how unsteady they are: `variance` (classes x candidate weeks) of log(after / before) beyond counting, and
    the logarithm of the unsteadiness of each class, in rising order.
    """

    unsteady: Floats
    variance: Floats

    def of_pages(self, clicks: Floats, expected: Floats) -> Floats:
        """Pages x candidate weeks, between the classes in proportion; pages too young to tell count as the most unsteady."""
        last = len(self.unsteady) - 1
        place = np.interp(np.nan_to_num(log_unsteadiness(clicks, expected), nan=np.inf), self.unsteady, np.arange(last + 1.0))
        low = np.minimum(place.astype(np.int64), last)
        above = self.variance[np.minimum(low + 1, last)]
        between: Floats = self.variance[low] * (above / self.variance[low]) ** (place - low)[:, None]
        return between


def natural_spread(clicks: Floats, expected: Floats) -> Spread:
    """The variation of busy pages, in classes of about equal size by unsteadiness, each shrunk to that of all and no larger: pages that come in
    bursts are not the noise of steady ones.

    Args:
        clicks, expected: pages x weeks; `expected` of a page of level 1, 0 in weeks without information. Fewer than LEAST_PAGES tell nothing.
    """
    if len(clicks) < LEAST_PAGES:
        return Spread(np.zeros(1), np.full((1, clicks.shape[1] - AFTER - BEFORE + 1), USUAL_SPREAD**2))
    together = _variance(clicks, expected)
    unsteady = log_unsteadiness(clicks, expected)
    order = np.argsort(unsteady, kind="stable")[: np.isfinite(unsteady).sum()]
    parts = np.array_split(order, np.clip(len(order) // LEAST_PAGES, 1, CLASSES))
    middle = np.array([np.median(unsteady[part]) for part in parts if len(part)])
    parts = [np.concatenate([part for part, center in zip(parts, middle, strict=False) if center == one]) for one in np.unique(middle)]
    if len(parts) < 2:  # one kind of pages, or too few weeks to tell
        return Spread(np.zeros(1), together[None, :])
    middle = np.unique(middle)
    apart = np.log([_variance(clicks[part], expected[part]) for part in parts]) - np.log(together)
    apart = (apart + apart.mean(axis=1, keepdims=True)) / 2  # few pages show no single week well
    # calm pages vary less; where a class varies more, many of it may have changed
    apart = np.where(apart.mean(axis=1, keepdims=True) < -CHANCE_APART, np.minimum(apart, 0.0), 0.0)
    weight = np.array([[len(part) / (len(part) + PRIOR_PAGES)] for part in parts])
    return Spread(middle, np.maximum(np.exp(weight * apart) * together, LEAST_SPREAD**2))


def before_and_after(clicks: Floats, expected: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    """Per page and candidate week: clicks and expectation before it (at most a year) and from it on."""
    weeks = clicks.shape[1]

    def summed(table: Floats) -> tuple[Floats, Floats]:
        total = np.cumsum(table, axis=1)
        until = total[:, BEFORE - 1 : weeks - AFTER]
        before = until.copy()
        before[:, YEAR - BEFORE + 1 :] -= total[:, : max(weeks - AFTER - YEAR, 0)]
        return before, total[:, -1:] - until

    return *summed(clicks), *summed(expected)


def without_spikes(clicks: Floats, expected: Floats) -> Floats:
    """The clicks with single spikes capped: no week counts for far more than the best quarter of a year of the page."""
    weeks = clicks.shape[1]
    ratio = np.where(expected > 0, clicks / np.maximum(expected, 1e-9), 0.0).astype(np.float32)
    bounds = np.linspace(0, weeks, max(weeks // 13, 1) + 1).astype(int)
    best = np.max([np.partition(ratio[:, a:b], (b - a) // 2, axis=1)[:, (b - a) // 2] for a, b in pairwise(bounds)], axis=0)
    usual = best[:, None] * expected
    cut: Floats = np.minimum(clicks, SPIKE * usual + SPIKE_SPREADS * np.sqrt(usual) + SPIKE_CLICKS)
    return cut


def _variance(clicks: Floats, expected: Floats) -> Floats:
    """Per candidate week, the variance of log(after / before) among pages beyond counting noise, by quartiles."""
    weeks = clicks.shape[1]
    before, after, e0, e1 = before_and_after(without_spikes(clicks, expected), expected)
    ratio = np.log((after + 0.5) / np.maximum(e1, 1e-9)) - np.log((before + 0.5) / np.maximum(e0, 1e-9))
    usable = (e0 > 0) & (after + before > 0)
    ratio = np.where(usable, ratio, np.nan)
    low, high = np.nanpercentile(ratio, [25, 75], axis=0)
    counting = np.nanmedian(np.where(usable, 1 / (after + 0.5) + 1 / (before + 0.5), np.nan), axis=0)
    since = np.arange(BEFORE, weeks - AFTER + 1)
    alone = _weekly_variance(clicks, expected) * (1 / np.minimum(since, YEAR) + 1 / (weeks - since))
    variance: Floats = np.maximum.reduce([((high - low) / QUARTILES) ** 2 - counting, alone, np.full(len(alone), LEAST_SPREAD**2)])
    return variance


def log_unsteadiness(clicks: Floats, expected: Floats) -> Floats:
    """Per page, the logarithm of the mean squared jump of its logarithm from one block of BLOCK weeks to the next beyond counting, without the
    LASTING largest ones, so that one lasting change does not make a page unsteady, and with one standard error of counting, since few clicks do
    not show that a page is calm; NaN for fewer than JUMPS others.
    """
    shape = (len(clicks), clicks.shape[1] // BLOCK, BLOCK)
    blocks = [table[:, table.shape[1] - shape[1] * BLOCK :].reshape(shape) for table in (clicks, expected)]
    there, (had, due) = np.asarray((blocks[1] > 0).all(axis=2)), (block.sum(axis=2) for block in blocks)
    usual = (had * there).sum(axis=1, keepdims=True) / np.maximum((due * there).sum(axis=1, keepdims=True), 1e-9) * due
    level, counting = np.log((had + 0.5) / np.maximum(due, 1e-9)), 1 / (usual + 0.5)
    usable = there[:, 1:] & there[:, :-1]
    jump = np.where(usable, np.diff(level, axis=1) ** 2, -np.inf)
    number = usable.sum(axis=1)
    rest = np.where(usable, jump - counting[:, 1:] - counting[:, :-1], 0.0)
    largest = np.argsort(-jump, axis=1, kind="stable")[:, :LASTING]
    np.put_along_axis(rest, largest, 0.0, axis=1)
    enough = number >= JUMPS + LASTING
    others = np.maximum(number - LASTING, 1)
    chance = 2 / np.maximum(usual.mean(axis=1) + 0.5, 0.5) * np.sqrt(2 / others)
    squared = np.maximum(rest.sum(axis=1) / others + chance, LEAST_SPREAD**2)
    return np.where(enough, np.log(squared), np.nan)


def _weekly_variance(clicks: Floats, expected: Floats) -> float:
    """The variance of single weeks relative to their mean beyond counting, from the differences of neighbouring weeks: the median over pages,
    weighted by what their counts tell. It is known where pages are too few, or too little visited, to show the variation between periods.
    """
    one, other, ratio = clicks[:, 1:], clicks[:, :-1], expected[:, 1:] / np.maximum(expected[:, :-1], 1e-9)
    usable = (expected[:, 1:] > 0) & (expected[:, :-1] > 0)
    beyond = np.where(usable, (one - other * ratio) ** 2 - one - other * ratio**2, 0.0).sum(axis=1)
    level = clicks.sum(axis=1) / np.maximum(expected.sum(axis=1), 1e-9)
    weight = np.where(usable, 2 * (level[:, None] * expected[:, 1:]) ** 2, 0.0).sum(axis=1)
    order = np.argsort(beyond / np.maximum(weight, 1e-9))
    half = np.searchsorted(np.cumsum(weight[order]), weight.sum() / 2)
    middle = order[min(half, len(order) - 1)]
    return max(float(beyond[middle] / max(weight[middle], 1e-9)), 0.0)
