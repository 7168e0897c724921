"""What queries earn: a page's visits and conversions from search, shared over the queries that drew them."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

Floats = NDArray[np.float64]
EARNED = "sessions engagement_rate conversions conversions_low conversions_high revenue".split()
#: bounds of the standard deviation of the logarithm by which pages, and the queries of a page, convert unlike; that of too few pages
LEAST_SPREAD, MOST_SPREAD, USUAL_SPREAD = 0.0, 1.5, 0.5
#: pages with sessions from which the site tells it
ENOUGH = 10
#: the ends of the interval: 80%
INTERVAL = (0.1, 0.9)


def nothing_earned() -> pd.DataFrame:
    """EARNED without a row, where no source tells of visits."""
    return pd.DataFrame(columns=EARNED, index=pd.Index([], dtype="str"), dtype="float64")


def earned_by(rows: pd.DataFrame, key: pd.Series, pages: pd.DataFrame) -> pd.DataFrame:
    """What the queries of each key (topic, group) earn: EARNED by key.

    A page's visits from search are shared over its queries by their clicks; what queries earn that the source withholds stays with none. Which of
    a page's conversions came by which query no source tells: queries of one page may convert unlike, as pages of one section do, and the interval
    allows for it. Of a page with one topic nothing is left to chance.

    Args:
        rows: page (number), clicks: one row per page and query; key: of each row, null where it has none.
        pages: by number: clicks (all, withheld ones too), sessions, engaged, conversions, revenue (of visits from search; null where unknown),
            section.
    Returns:
        conversions_low, conversions_high: an 80% interval. engagement_rate: engaged sessions over sessions, null without sessions.
    """
    known = rows[key.notna() & (rows["clicks"] > 0)].assign(key=key)
    if known.empty:
        return nothing_earned()
    clicks = known.groupby(["key", "page"], observed=True, as_index=False)["clicks"].sum()
    own = pages.reindex(clicks["page"])
    share = (clicks["clicks"].to_numpy(float) / np.maximum(own["clicks"].to_numpy(float), 1.0)).clip(0, 1)
    parts = {name: share * own[name].to_numpy(float) for name in ("sessions", "engaged", "conversions", "revenue")}
    spread = conversion_spread(pages)
    unsure = np.nan_to_num(own["conversions"].to_numpy(float)) * share * (1 - share)
    parts["variance"] = unsure + np.expm1(spread**2) * unsure**2
    sums = pd.DataFrame(parts).groupby(clicks["key"].to_numpy()).sum(min_count=1)
    low, high = _interval(sums["conversions"].to_numpy(float), sums["variance"].to_numpy(float))
    result = sums.assign(
        engagement_rate=sums["engaged"] / sums["sessions"].where(sums["sessions"] > 0), conversions_low=low, conversions_high=high
    )
    return result[EARNED]


def conversion_spread(pages: pd.DataFrame) -> float:
    """By how much the logarithm of a page's conversions per session differs from its section's by itself: by moments of counts (DerSimonian & Laird
    1986, Control. Clin. Trials 7:177, for Poisson counts); USUAL_SPREAD where under ENOUGH pages tell it.
    """
    known = pages[(pages["sessions"].fillna(0) > 0) & pages["conversions"].notna()]
    if len(known) < ENOUGH or not known["conversions"].sum():
        return USUAL_SPREAD
    whole = known.groupby("section")[["conversions", "sessions"]].transform("sum")
    expected = (known["sessions"] * whole["conversions"] / whole["sessions"]).to_numpy(float)
    beyond = ((known["conversions"].to_numpy(float) - expected) ** 2 - expected).sum() / max((expected**2).sum(), 1e-9)
    return float(np.clip(np.sqrt(np.log1p(max(beyond, 0.0))), LEAST_SPREAD, MOST_SPREAD))


def _interval(mean: Floats, variance: Floats) -> tuple[Floats, Floats]:
    """An 80% interval of counts with this mean and variance (gamma); both ends are the mean where nothing is left to chance."""
    with np.errstate(divide="ignore", invalid="ignore"):
        shape, scale = mean**2 / variance, variance / mean
        low, high = (special.gammaincinv(shape, end) * scale for end in INTERVAL)
    sure = ~(variance > 1e-12) | ~(mean > 0)
    return np.where(sure, mean, low), np.where(sure, mean, high)
