"""What queries earn: visits and conversions from search of a page, divided among its queries."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

Floats = NDArray[np.float64]
EARNED = "sessions engagement_rate conversions conversions_low conversions_high revenue".split()
#: limits of the standard deviation of the log conversion rate between pages, and between queries of a page; its default
LEAST_SPREAD, MOST_SPREAD, USUAL_SPREAD = 0.0, 1.5, 0.5
#: least number of pages with sessions to estimate it
ENOUGH = 10
#: quantiles of the 80% interval
INTERVAL = (0.1, 0.9)


def nothing_earned() -> pd.DataFrame:
    """EARNED without rows, where no source has visits."""
    return pd.DataFrame(columns=EARNED, index=pd.Index([], dtype="str"), dtype="float64")


def earned_by(rows: pd.DataFrame, key: pd.Series, pages: pd.DataFrame) -> pd.DataFrame:
    """What the queries of each key (topic, group) earn: EARNED by key.

    The visits from search to a page are divided among its queries by clicks; what withheld queries earn is assigned to none. No source says
    which query brought a conversion: queries of one page may convert differently, as pages of one section do, and the interval allows for
    it. For a page with a single topic there is no uncertainty.

    Args:
        rows: page (number), clicks: one row per page and query; key: of each row, null where it has none.
        pages: by number: clicks (all, including withheld queries), sessions, engaged, conversions, revenue (of visits from search; null
            where unknown), section.
    Returns:
        conversions_low, conversions_high: an 80% interval. engagement_rate: engaged sessions / sessions, null without sessions.
    """
    known = rows[key.notna() & (rows["clicks"] > 0)].assign(key=key)
    if known.empty:
        return nothing_earned()
    clicks = known.groupby(["key", "page"], observed=True, as_index=False)["clicks"].sum()
    of_rows = pages.reindex(clicks["page"])
    share = (clicks["clicks"].to_numpy(float) / np.maximum(of_rows["clicks"].to_numpy(float), 1.0)).clip(0, 1)
    parts = {name: share * of_rows[name].to_numpy(float) for name in ("sessions", "engaged", "conversions", "revenue")}
    spread = conversion_spread(pages)
    unsure = np.nan_to_num(of_rows["conversions"].to_numpy(float)) * share * (1 - share)
    parts["variance"] = unsure + np.expm1(spread**2) * unsure**2
    sums = pd.DataFrame(parts).groupby(clicks["key"].to_numpy()).sum(min_count=1)
    low, high = _interval(sums["conversions"].to_numpy(float), sums["variance"].to_numpy(float))
    result = sums.assign(
        engagement_rate=sums["engaged"] / sums["sessions"].where(sums["sessions"] > 0), conversions_low=low, conversions_high=high
    )
    return result[EARNED]


def conversion_spread(pages: pd.DataFrame) -> float:
    """Standard deviation of the log conversion rate of pages around that of their section: by moments of counts (DerSimonian & Laird
    1986, Control. Clin. Trials 7:177, for Poisson counts); USUAL_SPREAD for fewer than ENOUGH pages.
    """
    known = pages[(pages["sessions"].fillna(0) > 0) & pages["conversions"].notna()]
    if len(known) < ENOUGH or not known["conversions"].sum():
        return USUAL_SPREAD
    whole = known.groupby("section")[["conversions", "sessions"]].transform("sum")
    expected = (known["sessions"] * whole["conversions"] / whole["sessions"]).to_numpy(float)
    beyond = ((known["conversions"].to_numpy(float) - expected) ** 2 - expected).sum() / max((expected**2).sum(), 1e-9)
    return float(np.clip(np.sqrt(np.log1p(max(beyond, 0.0))), LEAST_SPREAD, MOST_SPREAD))


def _interval(mean: Floats, variance: Floats) -> tuple[Floats, Floats]:
    """An 80% interval of counts with this mean and variance (gamma); both ends are the mean where the variance is 0."""
    with np.errstate(divide="ignore", invalid="ignore"):
        shape, scale = mean**2 / variance, variance / mean
        low, high = (special.gammaincinv(shape, end) * scale for end in INTERVAL)
    sure = ~(variance > 1e-12) | ~(mean > 0)
    return np.where(sure, mean, low), np.where(sure, mean, high)
