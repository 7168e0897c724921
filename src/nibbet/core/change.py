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
#: prior standard deviation of the slopes of the log drift by trait, in standard deviations of the trait, and how many of these count at most
SLOPE, FARTHEST = 0.25, 2.0
#: busy rows from which their traits count
TRAIT_ROWS = 100
#: largest rise of the log drift of the site where rows differ by their traits, and largest difference of a row from it
HIGHER, MOST_APART = float(np.log(1.15)), float(np.log(2.0))
#: weeks of a block and least number of blocks; clicks a week from which a row says what is usual
BLOCK, LEAST_BLOCKS, WEEK_CLICKS = 4, 5, 3.0
#: share of the smallest changes between blocks that are used, and the mean of the smallest so many of squared normal deviates
KEPT = 0.8
TRIMMED = float(special.gammainc(1.5, special.gammaincinv(0.5, KEPT))) / KEPT


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
    level, _ = _fitted(recent, reference, scale, row_noise, np.empty((len(recent), 0)))
    return float(np.clip(np.exp(level), LEAST_DRIFT, 1.0))


def row_drifts(recent: Floats, reference: Floats, scale: float | Floats, traits: Floats) -> Floats:
    """The drift of each row, as `drift_of`, where rows differ by their traits: its logarithm is linear in them.

    Args:
        traits: rows x traits, NaN where unknown, which counts as usual. They are standardised over busy rows and limited to FARTHEST
            standard deviations; a normal prior with standard deviation SLOPE shrinks the slopes. With fewer than TRAIT_ROWS busy rows all are
            alike: of few, those that changed would pass for noisy ones.
    """
    base = reference * np.broadcast_to(np.asarray(scale, dtype=np.float64), np.shape(reference))
    busy = np.minimum(recent, base) >= BUSY
    if busy.sum() < TRAIT_ROWS:
        return np.full(len(recent), drift_of(recent, reference, scale))
    usable = np.isfinite(traits) & busy[:, None]
    count = np.maximum(usable.sum(axis=0), 1)
    middle = np.where(usable, traits, 0.0).sum(axis=0) / count
    spread = np.sqrt(np.where(usable, (traits - middle) ** 2, 0.0).sum(axis=0) / count)
    standard = np.clip(np.nan_to_num((traits - middle) / np.where(spread > 0, spread, np.inf)), -FARTHEST, FARTHEST)
    level, slopes = _fitted(recent, reference, scale, 0.0, standard)
    drifts: Floats = np.clip(np.exp(level + np.clip(standard @ slopes, -MOST_APART, MOST_APART)), LEAST_DRIFT, 1.0)
    return drifts


def _fitted(recent: Floats, reference: Floats, scale: float | Floats, row_noise: float | Floats, traits: Floats) -> tuple[float, Floats]:
    """The logarithm of the drift (see `drift_of`) of a row whose traits are 0, and its slopes by trait."""
    from scipy import optimize  # slow to import, and not needed where results are kept

    base = reference * np.broadcast_to(np.asarray(scale, dtype=np.float64), np.shape(reference))
    busy = np.flatnonzero(np.minimum(recent, base) >= BUSY)
    if len(busy) < LEAST_ROWS:
        return float(np.log(ASSUMED_DRIFT)), np.zeros(traits.shape[1])
    busy = busy[:: max(1, len(busy) // MOST_ROWS)]
    known = 1 / recent[busy] + 1 / reference[busy] + np.broadcast_to(np.asarray(row_noise, dtype=np.float64), np.shape(recent))[busy] ** 2
    ratio, traits = np.log(recent[busy] / base[busy]), traits[busy]

    def unlikely(given: Floats) -> float:
        drift, moved, spread = np.exp(2 * (given[0] + traits @ given[6:])), np.exp(given[1]), np.exp(2 * given[2])
        part, fell = special.expit(given[3]), special.expit(given[4])
        rest, narrow = ratio - given[5], known + drift
        wide = narrow + spread

        def density(middle: float, variance: Floats) -> Floats:
            height: Floats = np.exp(-((rest - middle) ** 2) / variance / 2) / np.sqrt(variance)
            return height

        changed = fell * density(-moved, wide) + (1 - fell) * density(moved, wide)
        # a weak prior separates the components where all rows are similar
        prior = 2 * ((given[1:3] - START[1:3]) ** 2).sum() + ((given[3:5] - START[3:5]) ** 2).sum() / 2
        prior += ((given[6:] / SLOPE) ** 2).sum() / 2
        return float(prior - np.log((1 - part) * density(0.0, narrow) + part * changed + 1e-300).sum())

    none = np.zeros(traits.shape[1])
    start = [*START, float(np.median(ratio))]
    fitted = optimize.minimize(lambda given: unlikely(np.concatenate([given, none])), start, method="L-BFGS-B")
    best, rest = float(fitted.x[0]), np.array([*fitted.x[1:], *none])
    if len(none):
        # the drift of the site may rise by little: otherwise rows that changed would pass for noisy ones
        limits = [(best, best + HIGHER), *[(None, None)] * len(rest)]
        fitted = optimize.minimize(unlikely, [best, *rest], method="L-BFGS-B", bounds=limits)
        best, rest = float(fitted.x[0]), fitted.x[1:]
    # few rows estimate it badly: the upper quartile of the likelihood, not its maximum, keeps intervals honest
    end = max(best, float(np.log(LEAST_DRIFT))) + 1.5
    sure = optimize.brentq(lambda drift: unlikely(np.array([drift, *rest])) - fitted.fun - QUARTILE, best, end) if best < end else best
    return float(sure), np.asarray(rest[5:], dtype=np.float64)


def unsteadiness(weeks: NDArray[np.number]) -> Floats:
    """How far the counts of each row change from one block of BLOCK weeks to the next: the logarithm of the standard deviation of their
    relative change, beyond counting and the common movement of all rows.

    Args:
        weeks: rows x weeks (counts), oldest first; weeks before the first count of a row are left out.
    Returns:
        NaN for all where there are fewer than LEAST_BLOCKS blocks or LEAST_ROWS rows that say what is usual. The largest fifth of the changes of a row is left out, as a lasting change is
        no unsteadiness. The variance is shrunk to that of all rows in proportion to its uncertainty (empirical Bayes).
    """
    rows, count = len(weeks), weeks.shape[1] // BLOCK
    if count < LEAST_BLOCKS or not rows:
        return np.full(rows, np.nan)
    blocks = weeks[:, weeks.shape[1] - count * BLOCK :].astype(np.float64).reshape(rows, count, BLOCK).sum(axis=2)
    lived = np.cumsum(blocks, axis=1) > 0
    busy = blocks.sum(axis=1) >= WEEK_CLICKS * BLOCK * count
    if busy.sum() < LEAST_ROWS:
        return np.full(rows, np.nan)
    common = np.median(blocks[busy] / blocks[busy].sum(axis=1, keepdims=True), axis=0)
    common = np.maximum(common, 1e-9 * common.sum() + 1e-12)
    expected = blocks.sum(axis=1, keepdims=True) * common / np.maximum((lived * common).sum(axis=1, keepdims=True), 1e-12)
    expected = np.maximum(expected, 1e-9)
    both = lived[:, 1:] & lived[:, :-1]
    square = np.where(both, np.diff(blocks / expected, axis=1) ** 2, np.inf)
    chance = np.where(both, 1 / expected[:, 1:] + 1 / expected[:, :-1], 0.0)
    pairs = both.sum(axis=1)
    used = np.ceil(KEPT * pairs)
    smaller = np.where(np.arange(count - 1) < used[:, None], np.sort(square, axis=1), 0.0).sum(axis=1) / np.maximum(used, 1) / TRIMMED
    chance = chance.sum(axis=1) / np.maximum(pairs, 1)
    excess = np.where(pairs > 0, np.maximum(smaller - chance, 0.0), 0.0)
    sure = busy & (pairs >= LEAST_BLOCKS - 1)
    if sure.sum() < LEAST_ROWS:
        return np.full(rows, np.nan)
    usual = float(np.median(excess[sure]))
    doubt = 3 * (usual + chance) ** 2 / np.maximum(pairs, 1)
    between = max(float(np.var(excess[sure]) - doubt[sure].mean()), 1e-5)
    variance = np.where(pairs > 0, (excess * between + usual * doubt) / (between + doubt), usual)
    return np.log(np.maximum(variance, 1e-4)) / 2


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
