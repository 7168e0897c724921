"""What changed between two windows, whether it is real, and its parts: demand, rank and pull."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import stats

from nibbet.core.pull import false_discovery

Floats = NDArray[np.float64]


def noise_of(recent: Floats, reference: Floats, scale: float | Floats) -> float:
    """Page-to-page spread of the log ratio of two windows beyond counting noise, from its middle half.

    Real changes sit in the tails; the quartiles hardly feel them. Never under 0.03.
    """
    busy = np.minimum(recent, reference * scale) >= 40
    if busy.sum() < 20:
        return 0.15
    ratio = np.log(recent[busy] / (reference * scale)[busy])
    counting = 1 / recent[busy] + 1 / reference[busy]
    middle = np.subtract(*np.percentile(ratio - np.median(ratio), [75, 25])) / 1.349
    return float(np.sqrt(max(middle**2 - np.median(counting), 0.03**2)))


def change(
    recent: Floats, reference: Floats, *, scale: float | Floats, beyond: float = 0.10, known: NDArray[np.bool_] | None = None
) -> pd.DataFrame:
    """The change of counts between two windows with its interval.

    Args:
        recent, reference: counts per row; scale: factor (one, or one a row) that makes the reference comparable (length, weekdays, season).
        beyond: a change is real when the true one exceeds this share either way.
        known: rows whose reference window the data reach; the others get nulls.
    Returns:
        change, change_share (null without reference), change_low, change_high (95%, of the change in expected counts),
        change_real (at 5% false discovery, Benjamini-Hochberg). Counts are taken as Poisson around a mean that itself strays by the
        noise found between the rows (a log-normal); the interval is that of the log ratio, carried over to the difference.
    """
    base = reference * scale
    noise = noise_of(recent, reference, scale)
    difference = recent - base
    spread = np.sqrt(1 / (recent + 0.5) + 1 / (reference + 0.5) + noise**2)
    total = recent + base
    half = 1.96 * np.sqrt(recent + base * scale + (noise * np.maximum(recent, base)) ** 2 + 1.0)
    ratio = np.log((recent + 0.5) / (base + 0.5 * scale))
    distance = np.maximum(np.abs(ratio) - np.log1p(beyond), 0.0)
    p = np.where(total >= 5, 2 * stats.norm.sf(distance / spread), np.nan)
    usable = np.ones(len(recent), dtype=bool) if known is None else known
    p = np.where(usable & (distance > 0), p, np.where(usable, 1.0, np.nan))
    q = false_discovery(p)
    frame = pd.DataFrame(
        {
            "change": difference,
            "change_share": np.where(base > 0, difference / np.where(base > 0, base, 1.0), np.nan),
            "change_low": difference - half,
            "change_high": difference + half,
            "change_real": np.where(np.isfinite(q), q < 0.05, False),
        }
    )
    frame.loc[~usable, ["change", "change_share", "change_low", "change_high"]] = np.nan
    return frame


#: assumed share of searches in which a result at a position is shown at all, relative to the first page; (position, share)
SEEN = ((1.0, 1.0), (10.0, 1.0), (12.0, 0.55), (20.0, 0.32), (30.0, 0.18), (50.0, 0.07), (100.0, 0.03))


def seen_share(position: Floats) -> Floats:
    """Share of searchers who get as far as this position; an assumption until a source of demand replaces it."""
    places, shares = zip(*SEEN, strict=True)
    return np.exp(np.interp(np.log(np.maximum(position, 1.0)), np.log(places), np.log(shares)))


def split(pairs: pd.DataFrame, pages: pd.DataFrame) -> pd.DataFrame:
    """Each page's change divided into demand, rank and pull, which add up to it exactly.

    Args:
        pairs: one row per (page, query) or finer: page, then for the recent window and, with `_reference` behind the name, for the other: impressions, expected_clicks
            (both scaled to the same length), position (null without impressions).
        pages: page, clicks_recent, clicks_reference (scaled).
    Returns:
        One row per page of `pages`: page, demand, rank, pull.
        Clicks = expected clicks x pull; the expected clicks of a query = demand x (seen share x CTR at its position). Both steps by the
        logarithmic mean Divisia index (Ang 2004, Energy Policy 32:1131, additive LMDI-I). Queries seen in one window only are divided in
        the proportion of the page's other queries: demand and rank cannot be told apart for them.
    """
    e1, e0 = pairs["expected_clicks"].to_numpy(float), pairs["expected_clicks_reference"].to_numpy(float)
    both = (e1 > 1e-9) & (e0 > 1e-9)  # below that a ratio means nothing
    demand = _demand(pairs, ""), _demand(pairs, "_reference")
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = np.where(both, _log_mean(e1, e0), 0.0)
        by_demand = np.where(both, mean * np.log(demand[0] / demand[1]), 0.0)
    sums = (
        pd.DataFrame(
            {
                "page": pairs["page"],
                "by_demand": by_demand,
                "matched": np.where(both, e1 - e0, 0.0),
                "lone": np.where(both, 0.0, e1 - e0),
                "e1": e1,
                "e0": e0,
            }
        )
        .groupby("page")
        .sum()
        .reindex(pages["page"])
        .fillna(0.0)
    )
    c1, c0 = pages["clicks_recent"].to_numpy(float) + 0.5, pages["clicks_reference"].to_numpy(float) + 0.5
    expected_1, expected_0 = sums["e1"].to_numpy() + 0.5, sums["e0"].to_numpy() + 0.5
    weight = _log_mean(c1, c0)
    from_expected = weight * np.log(expected_1 / expected_0)
    pull = (c1 - c0) - from_expected
    moved = sums["e1"].to_numpy() - sums["e0"].to_numpy()
    d, r = sums["by_demand"].to_numpy(), sums["matched"].to_numpy() - sums["by_demand"].to_numpy()
    agree = np.abs(d) + np.abs(r)
    lone_demand = sums["lone"].to_numpy() * np.where(agree > 0, np.abs(d) / np.where(agree > 0, agree, 1.0), 0.5)
    share = np.where(np.abs(moved) > 1e-9, (d + lone_demand) / np.where(np.abs(moved) > 1e-9, moved, 1.0), 0.5)
    by_demand_page = np.where(np.abs(moved) > 1e-9, from_expected * share, 0.0)
    return pd.DataFrame({"page": pages["page"].to_numpy(), "demand": by_demand_page, "rank": from_expected - by_demand_page, "pull": pull})


def _demand(pairs: pd.DataFrame, window: str) -> Floats:
    position = pairs[f"position{window}"].fillna(1.0).to_numpy(float)
    return pairs[f"impressions{window}"].to_numpy(float) / seen_share(position)


def _log_mean(a: Floats, b: Floats) -> Floats:
    """(a - b) / (ln a - ln b), and a where both are equal."""
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        gap = np.log(a / b)
        return np.where(np.abs(gap) < 1e-9, a, (a - b) / np.where(np.abs(gap) < 1e-9, 1.0, gap))
