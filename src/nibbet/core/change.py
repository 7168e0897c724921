"""What changed between two windows, and whether it is real."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import optimize, special

from nibbet.core.pull import false_discovery

Floats = NDArray[np.float64]

#: counts in both windows from which a row tells how far rows drift, rows that it takes, and how many are looked at
BUSY, LEAST_ROWS, MOST_ROWS = 40, 20, 20_000
#: the drift assumed where too few rows tell it, and the least: no two windows of a page are alike to the last percent
ASSUMED_DRIFT, LEAST_DRIFT = 0.15, 0.03
#: where the fit begins: the drift; by how much rows that changed did (they halve or double) and how that differs, in logarithms; which part of
#: the rows did (a fifth), and which part of these fell (half), in log odds
START = np.array([np.log(0.12), np.log(0.6), np.log(0.3), -1.5, 0.0])
#: units of log likelihood from the best to the upper quartile
QUARTILE = 0.6745**2 / 2
#: weeks of a window from which its weeks tell how far they stray from their line, and clicks a week from which they count
LEAST_WEEKS, WEEK_CLICKS = 6, 3.0
#: a week's line is never thought under this share of the mean; clicks a week from which a row tells how rows differ in noise
LOWEST_LINE, SURE_CLICKS = 0.25, 10


def drift_of(recent: Floats, reference: Floats, scale: float | Floats, own: float | Floats = 0.0) -> float:
    """How far rows that nothing befell drift apart between two windows: the spread of the log ratio beyond counting.

    Args:
        recent, reference: counts per row; scale: factor (one, or one a row) that makes the reference comparable; own: spread that is known of
            each row already.
    Returns:
        The narrow part of a mixture of normal distributions, of rows that stayed, fell and rose, by likelihood (the upper quartile of what it allows): rows that truly changed make
        the other parts and do not stretch it. Never under LEAST_DRIFT; ASSUMED_DRIFT where under LEAST_ROWS rows have BUSY counts in
        both windows.
    """
    base = reference * np.broadcast_to(np.asarray(scale, dtype=np.float64), np.shape(reference))
    busy = np.flatnonzero(np.minimum(recent, base) >= BUSY)
    if len(busy) < LEAST_ROWS:
        return ASSUMED_DRIFT
    busy = busy[:: max(1, len(busy) // MOST_ROWS)]
    known = 1 / recent[busy] + 1 / reference[busy] + np.broadcast_to(np.asarray(own, dtype=np.float64), np.shape(recent))[busy] ** 2
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
        # a weak prior keeps the parts apart where all rows are alike
        prior = 2 * ((given[1:3] - START[1:3]) ** 2).sum() + ((given[3:5] - START[3:5]) ** 2).sum() / 2
        return float(prior - np.log((1 - part) * density(0.0, narrow) + part * changed + 1e-300).sum())

    start = [*START, middle]
    fitted = optimize.minimize(unlikely, start, method="Nelder-Mead", options={"maxiter": 2000})
    best, rest = float(fitted.x[0]), fitted.x[1:]
    # few rows tell it badly: the upper quartile of what is likely, not the best guess, keeps intervals honest
    end = max(best, float(np.log(LEAST_DRIFT))) + 1.5
    sure = optimize.brentq(lambda drift: unlikely(np.array([drift, *rest])) - fitted.fun - QUARTILE, best, end) if best < end else best
    return float(np.clip(np.exp(sure), LEAST_DRIFT, 1.0))


def noise_of_weeks(*windows: NDArray[np.number]) -> Floats:
    """Each row's own noise between two windows: how far its weeks stray from a straight line beyond counting, carried to whole windows.

    Args:
        windows: rows x weeks of each window (counts).
    Returns:
        A spread of the log ratio per row. What the weeks of all rows have in common is divided out; the variance of a row is drawn to that of
        all rows as far as its own is uncertain (empirical Bayes). 0 where a window has under LEAST_WEEKS weeks.
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
    own = (variance * between + usual * doubt) / (between + doubt)
    noise: Floats = np.sqrt(np.maximum(own, 0.0) * sum(1 / window.shape[1] for window in windows))
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
        known: rows whose reference window the data reach; the others get nulls.
        noise: spread of the log ratio beyond counting, one or one a row; found among the rows (`drift_of`) when left out.
        season: factor that the season alone gives: a change is real beyond that too; change and its interval are as they are.
    Returns:
        change, change_share (null without reference), change_low, change_high (95%, of the change in expected counts),
        change_real (at 5% false discovery, Benjamini-Hochberg). Each count is taken as Poisson around a mean that itself strays (a gamma
        whose spread is the noise found between the rows), so that its expectation has a gamma interval. Those of the two counts give that
        of their difference (MOVER: Zou & Donner 2008, Stat. Med. 27:1693), and their ratio an F distribution, from which comes the chance
        that the true change lies inside `beyond`. Under 5 counts in both together nothing is called real.
    """
    factor = np.broadcast_to(np.asarray(scale, dtype=np.float64), np.shape(reference))
    base = reference * factor
    own = np.asarray(drift_of(recent, reference, factor * season) if noise is None else noise, dtype=np.float64)
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
