"""The change between two windows, and whether it is real."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from nibbet.core.pull import false_discovery

Floats = NDArray[np.float64]

#: counts in both windows from which a row contributes to the drift, least number of rows, and most rows used
BUSY, LEAST_ROWS, MOST_ROWS = 40, 20, 20_000
#: drift where too few rows give it, and least drift: no two windows of a page agree to the last percent
ASSUMED_DRIFT, LEAST_DRIFT = 0.15, 0.03
#: start of the fit: drift; mean change of changed rows (they halve or double) and its spread, as logarithms; share of changed rows (a
#: fifth), and share of these that fell (half), as log odds
START = np.array([np.log(0.12), np.log(0.6), np.log(0.3), -1.5, 0.0])
#: difference in log likelihood between the maximum and the upper quartile
QUARTILE = 0.6745**2 / 2
#: least weeks of a window and least clicks a week for the noise of a row to be estimated
LEAST_WEEKS, WEEK_CLICKS = 6, 3.0
#: lower limit of the fitted line relative to the mean; clicks a week from which a row contributes to the variation of noise between rows
LOWEST_LINE, SURE_CLICKS = 0.25, 10


def drift_of(recent: Floats, reference: Floats, scale: float | Floats, row_noise: float | Floats = 0.0) -> float:
    """The drift of unaffected rows between two windows: the standard deviation of the log ratio beyond counting noise.

    Args:
        recent, reference: counts per row; scale: factor (one, or one a row) that makes the reference comparable; row_noise: known noise of
            each row (standard deviation).
    Returns:
        The narrow component of a mixture of normal distributions (unchanged, fallen and risen rows), by maximum likelihood, at its upper
        quartile. Rows that truly changed belong to the other components and do not widen it. At least LEAST_DRIFT; ASSUMED_DRIFT where
        fewer than LEAST_ROWS rows have BUSY counts in both windows.
    """
    from scipy import optimize  # slow to import, and not needed where results are kept

    base = reference * np.broadcast_to(np.asarray(scale, dtype=np.float64), np.shape(reference))
    busy = np.flatnonzero(np.minimum(recent, base) >= BUSY)
    if len(busy) < LEAST_ROWS:
        return ASSUMED_DRIFT
    busy = busy[:: max(1, len(busy) // MOST_ROWS)]
    known = 1 / recent[busy] + 1 / reference[busy] + np.broadcast_to(np.asarray(row_noise, dtype=np.float64), np.shape(recent))[busy] ** 2
    ratio = np.log(recent[busy] / base[busy])
    middle = float(np.median(ratio))

    def unlikely(given: Floats) -> float:
        drift, moved, spread = np.exp(2 * given[0]), np.exp(given[1]), np.exp(2 * given[2])
        part, fell = special.expit(given[3]), special.expit(given[4])
        rest, narrow = ratio - given[5], known + drift
        wide = narrow + spread

        def density(middle: float, variance: Floats) -> Floats:
            height: Floats = np.exp(-((rest - middle) ** 2) / variance / 2) / np.sqrt(variance)
            return height

        changed = fell * density(-moved, wide) + (1 - fell) * density(moved, wide)
        # a weak prior separates the components where all rows are similar
        prior = 2 * ((given[1:3] - START[1:3]) ** 2).sum() + ((given[3:5] - START[3:5]) ** 2).sum() / 2
        return float(prior - np.log((1 - part) * density(0.0, narrow) + part * changed + 1e-300).sum())

    start = [*START, middle]
    fitted = optimize.minimize(unlikely, start, method="Nelder-Mead", options={"maxiter": 2000})
    best, rest = float(fitted.x[0]), fitted.x[1:]
    # few rows estimate it badly: the upper quartile of the likelihood, not its maximum, keeps intervals honest
    end = max(best, float(np.log(LEAST_DRIFT))) + 1.5
    sure = optimize.brentq(lambda drift: unlikely(np.array([drift, *rest])) - fitted.fun - QUARTILE, best, end) if best < end else best
    return float(np.clip(np.exp(sure), LEAST_DRIFT, 1.0))


def noise_of_weeks(*windows: NDArray[np.number]) -> Floats:
    """The noise of each row between two windows: the variation of its weeks around a straight line beyond counting, scaled to whole
    windows.

    Args:
        windows: rows x weeks of each window (counts).
    Returns:
        A standard deviation of the log ratio per row. The common movement of all rows is divided out first. The variance of a row is shrunk
        to that of all rows in proportion to its uncertainty (empirical Bayes). 0 where a window has fewer than LEAST_WEEKS weeks.
    """
    rows = len(windows[0])
    if min(window.shape[1] for window in windows) < LEAST_WEEKS:
        return np.zeros(rows)
    excess, square, total = np.zeros(rows), np.zeros(rows), 0.0
    for window in windows:
        clicks, weeks = window.astype(np.float64), window.shape[1]
        time = np.arange(weeks) - (weeks - 1) / 2
        mean = clicks.mean(axis=1, keepdims=True)
        line = np.maximum(mean + (clicks @ time)[:, None] / (time**2).sum() * time, LOWEST_LINE * mean + 0.01)
        busy = mean[:, 0] >= WEEK_CLICKS
        if busy.sum() >= LEAST_ROWS:
            line = line * np.median(clicks[busy] / line[busy], axis=0)
        excess += ((clicks - line) ** 2 - line).sum(axis=1) * weeks / (weeks - 2)
        square += (line**2).sum(axis=1)
        total += weeks
    variance, weekly = excess / np.maximum(square, 1e-9), np.sqrt(square / total)
    busy = weekly >= WEEK_CLICKS
    usual = max(float(excess[busy].sum() / square[busy].sum()), 0.0) if busy.any() else 0.0
    doubt = 2 * (usual + 1 / np.maximum(weekly, 0.1)) ** 2 / (total - 2 * len(windows))
    sure = weekly >= SURE_CLICKS
    between = max(float(np.var(variance[sure]) - doubt[sure].mean()), 1e-6) if sure.sum() >= LEAST_ROWS else 1e-6
    row_variance = (variance * between + usual * doubt) / (between + doubt)
    noise: Floats = np.sqrt(np.maximum(row_variance, 0.0) * sum(1 / window.shape[1] for window in windows))
    return noise


def change(
    recent: Floats,
    reference: Floats,
    *,
    scale: float | Floats,
    beyond: float = 0.10,
    known: NDArray[np.bool_] | None = None,
    noise: float | Floats | None = None,
    season: float | Floats = 1.0,
) -> pd.DataFrame:
    """The change of counts between two windows with its interval.

    Args:
        recent, reference: counts per row; scale: factor (one, or one a row) that makes the reference comparable (length, weekdays, season).
        beyond: a change is real when the true one exceeds this share either way.
        known: rows whose reference window the data cover; the others get nulls.
        noise: standard deviation of the log ratio beyond counting, one or one a row; estimated from the rows (`drift_of`) if omitted.
        season: factor due to the season alone. A change is real only beyond it; the change and its interval are unaffected.
    Returns:
        change, change_share (null without reference), change_low, change_high (95%, of the change in expected counts), change_real (at 5%
        false discovery, Benjamini-Hochberg). Each count is Poisson around a mean that varies itself (a gamma whose spread is the noise
        between rows), so that its expectation has a gamma interval. Those of the two counts give that of their difference (MOVER: Zou &
        Donner 2008, Stat. Med. 27:1693), and their ratio has an F distribution, which gives the probability that the true change is within
        `beyond`. With fewer than 5 counts in both windows together no change is real.
    """
    factor = np.broadcast_to(np.asarray(scale, dtype=np.float64), np.shape(reference))
    base = reference * factor
    spread = np.asarray(drift_of(recent, reference, factor * season) if noise is None else noise, dtype=np.float64)
    difference = recent - base
    shape = tuple(1 / (1 / (count + 0.5) + spread**2 / 2) for count in (recent, reference))
    mean = recent + 0.5, (reference + 0.5) * factor
    counts = [np.unique(count, return_inverse=True) for count in shape]  # many rows have equal counts, and quantiles are slow
    low, high = (
        tuple((special.gammaincinv(k, level) / k)[row] * m for (k, row), m in zip(counts, mean, strict=True)) for level in (0.025, 0.975)
    )
    usable = np.ones(len(recent), dtype=bool) if known is None else known
    enough = usable & (recent + reference >= 5)
    ratio = mean[0] / (mean[1] * season)
    up = ratio > 1
    risen, fallen = enough & up, enough & ~up
    inside = np.full(len(recent), np.nan)
    inside[risen] = special.fdtr(2 * shape[0][risen], 2 * shape[1][risen], (1 + beyond) / ratio[risen])
    inside[fallen] = special.fdtrc(2 * shape[0][fallen], 2 * shape[1][fallen], (1 - beyond) / ratio[fallen])
    q = false_discovery(np.minimum(2 * inside, 1.0))
    frame = pd.DataFrame(
        {
            "change": difference,
            "change_share": np.where(base > 0, difference / np.where(base > 0, base, 1.0), np.nan),
            "change_low": difference - np.hypot(np.maximum(recent - low[0], 0), np.maximum(high[1] - base, 0)),
            "change_high": difference + np.hypot(np.maximum(high[0] - recent, 0), np.maximum(base - low[1], 0)),
            "change_real": np.isfinite(q) & (np.nan_to_num(q, nan=1.0) < 0.05) & ((base <= 0) | (np.abs(difference) > beyond * base)),
        }
    )
    frame.loc[~usable, ["change", "change_share", "change_low", "change_high"]] = np.nan
    return frame
