"""What changed between two windows, and whether it is real."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from nibbet.core.pull import false_discovery

Floats = NDArray[np.float64]


def noise_of(recent: Floats, reference: Floats, scale: float | Floats) -> float:
    """Page-to-page spread of the log ratio of two windows beyond counting noise, from its middle.

    Real changes sit in the tails: what lies beyond 2.5 spreads is left out, and the quartiles of the rest hardly feel what remains.
    Never under 0.03; 0.15 where under 20 rows have 40 counts in both windows.
    """
    busy = np.minimum(recent, reference * scale) >= 40
    if busy.sum() < 20:
        return 0.15
    factor = np.broadcast_to(np.asarray(scale, dtype=np.float64), np.shape(reference))
    counting = 1 / recent[busy] + 1 / reference[busy]
    ratio = np.log(recent[busy] / (reference * factor)[busy])
    ratio = ratio - np.median(ratio)
    spread = 0.15
    for _ in range(6):
        middle = np.abs(ratio) <= 2.5 * np.sqrt(counting + spread**2)
        # counting noise differs from row to row: each row is held against its own before the quartiles are taken
        unit = np.sqrt((counting[middle] + spread**2) / spread**2)
        quartiles = np.subtract(*np.percentile(ratio[middle] / unit, [75, 25])) / 1.327  # of a normal cut at 2.5
        spread = float(np.clip(quartiles, 0.03, 1.0))
    return spread


def change(
    recent: Floats,
    reference: Floats,
    *,
    scale: float | Floats,
    beyond: float = 0.10,
    known: NDArray[np.bool_] | None = None,
    noise: float | None = None,
    season: float | Floats = 1.0,
) -> pd.DataFrame:
    """The change of counts between two windows with its interval.

    Args:
        recent, reference: counts per row; scale: factor (one, or one a row) that makes the reference comparable (length, weekdays, season).
        beyond: a change is real when the true one exceeds this share either way.
        known: rows whose reference window the data reach; the others get nulls.
        noise: spread of the log ratio beyond counting noise; found among the rows (`noise_of`) when left out.
        season: factor that the season alone gives: a change is real beyond that; change and its interval are as they are.
    Returns:
        change, change_share (null without reference), change_low, change_high (95%, of the change in expected counts),
        change_real (at 5% false discovery, Benjamini-Hochberg). Each count is taken as Poisson around a mean that itself strays (a gamma
        whose spread is the noise found between the rows), so that its expectation has a gamma interval. Those of the two counts give that
        of their difference (MOVER: Zou & Donner 2008, Stat. Med. 27:1693), and their ratio an F distribution, from which comes the chance
        that the true change lies inside `beyond`. Under 5 counts in both together nothing is called real.
    """
    factor = np.broadcast_to(np.asarray(scale, dtype=np.float64), np.shape(reference))
    base = reference * factor
    own = noise_of(recent, reference, factor * season) if noise is None else noise
    difference = recent - base
    shape = tuple(1 / (1 / (count + 0.5) + own**2 / 2) for count in (recent, reference))
    mean = recent + 0.5, (reference + 0.5) * factor
    counts = [np.unique(count, return_inverse=True) for count in shape]  # many rows have equal counts, and quantiles are dear
    low, high = (
        tuple((special.gammaincinv(k, level) / k)[row] * m for (k, row), m in zip(counts, mean, strict=True)) for level in (0.025, 0.975)
    )
    usable = np.ones(len(recent), dtype=bool) if known is None else known
    enough = usable & (recent + reference >= 5)
    ratio = mean[0] / (mean[1] * season)
    up = ratio > 1
    told, fallen = enough & up, enough & ~up
    inside = np.full(len(recent), np.nan)
    inside[told] = special.fdtr(2 * shape[0][told], 2 * shape[1][told], (1 + beyond) / ratio[told])
    inside[fallen] = special.fdtrc(2 * shape[0][fallen], 2 * shape[1][fallen], (1 - beyond) / ratio[fallen])
    q = false_discovery(np.minimum(2 * inside, 1.0))
    frame = pd.DataFrame(
        {
            "change": difference,
            "change_share": np.where(base > 0, difference / np.where(base > 0, base, 1.0), np.nan),
            "change_low": difference - np.hypot(np.maximum(recent - low[0], 0), np.maximum(high[1] - base, 0)),
            "change_high": difference + np.hypot(np.maximum(high[0] - recent, 0), np.maximum(base - low[1], 0)),
            "change_real": np.where(np.isfinite(q), q < 0.05, False),
        }
    )
    frame.loc[~usable, ["change", "change_share", "change_low", "change_high"]] = np.nan
    return frame
