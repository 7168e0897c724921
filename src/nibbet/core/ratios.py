"""Ratios of sums with intervals that treat pages as clusters, because rows of one page are correlated."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

#: default standard deviation between pages (of the logarithm), where there are few
PAGE_SPREAD = 0.3
#: pages from which their own variation gives the interval
ENOUGH_PAGES = 10
#: rows farther from the median, in standard deviations, are outliers; distance of the quartiles of the remaining normal distribution
NO_USUAL, QUARTILES = 2.5, 1.327


def usual_spread(z: NDArray[np.float64]) -> float:
    """The standard deviation of rows without outliers, for standardised rows: 1 where the assumed spread was right. Of all rows where none is
    near the median, as between two heaps.
    """
    near = np.abs(z - np.median(z)) <= NO_USUAL
    middle = z[near] if near.any() else z
    return float(np.subtract(*np.percentile(middle, [75, 25])) / QUARTILES)


def ratio_interval(pages: pd.DataFrame, *, level: float = 0.95) -> pd.DataFrame:
    """The ratio of sums of each group, with its interval.

    Args:
        pages: index (group, page); counted: counts; expected: the counts to compare with, one row per page of a group.
    Returns:
        One row per group, by name: ratio, low, high, error (standard error of its logarithm), pages. The linearised variance of a ratio of
        sums over pages (Cochran 1977, Sampling Techniques, 3rd ed., ch. 6), at least the counting variance; for fewer than ENOUGH_PAGES
        pages also at least that given by PAGE_SPREAD.
    """
    group = pages.index.get_level_values(0)
    sums = pages.groupby(group)[["counted", "expected"]].sum()
    counted, expected = sums["counted"] + 0.5, sums["expected"].where(sums["expected"] > 0)
    ratio = counted / expected
    off = pages["counted"] - pages["expected"] * ratio.reindex(group).to_numpy()
    count = pages.groupby(group).size()
    spread = (off**2).groupby(group).sum() * count / (count - 1).clip(lower=1) / counted**2
    share = (pages["expected"] ** 2).groupby(group).sum() / expected**2
    least = 1 / counted + np.where(count < ENOUGH_PAGES, PAGE_SPREAD**2 * share, 0.0)
    error = np.sqrt(np.maximum(spread.fillna(0.0), least))
    wide = special.stdtrit((count - 1).clip(lower=ENOUGH_PAGES - 1).to_numpy(np.float64), 0.5 + level / 2) * error
    return pd.DataFrame({"ratio": ratio, "low": ratio * np.exp(-wide), "high": ratio * np.exp(wide), "error": error, "pages": count})
