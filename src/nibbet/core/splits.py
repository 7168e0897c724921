"""Devices, countries, surfaces and channels, each compared with the others on the same pages."""

from __future__ import annotations

import numpy as np
import pandas as pd
from scipy import special

from nibbet.core.pull import false_discovery, weighted_position
from nibbet.core.ratios import ENOUGH_PAGES, PAGE_SPREAD
from nibbet.core.tables import THIN_CLICKS

SPLITS = (
    "dimension value pages impressions clicks clicks_reference ctr position pull pull_beside pull_low pull_high pull_flag sessions sessions_reference "
    "engagement_rate engagement_beside engagement_low engagement_high engagement_flag seconds_per_session conversions conversions_per_session "
    "conversion_beside conversion_low conversion_high conversion_flag revenue"
).split()
#: numerator and denominator of each compared rate
COMPARED = {
    "pull": ("clicks_plain", "expected_clicks"),
    "engagement": ("engaged_sessions", "sessions"),
    "conversion": ("conversions", "sessions"),
}
#: false discovery rate
CHANCE = 0.05


def splits_of(cells: pd.DataFrame) -> pd.DataFrame:
    """One row per value of each dimension: SPLITS.

    Args:
        cells: one row per dimension, value and page: clicks, impressions, position_sum, placed, clicks_reference (scaled), clicks_plain and
            expected_clicks (without the brand), sessions, sessions_reference (scaled), engaged_sessions, engagement_seconds, conversions,
            revenue; null where unknown.
    Returns:
        Sums, rates of sums, and for pull, engagement and conversion the ratio to the same pages in all other values (1.0 =
        equal), so that better pages do not favour a device: RATE_beside with its 95% interval, and a flag
        (low, high) where it differs beyond chance, at 5% false discovery over all values of all dimensions.
    """
    keys = ["dimension", "value"]
    counted = [name for name in cells if name not in (*keys, "page")]
    cells = cells.assign(**{name: cells[name].astype("category") for name in keys})  # few values, sorted
    sums = cells.groupby(keys, observed=True)[counted].sum(min_count=1)
    table = sums.assign(
        pages=cells[cells["impressions"].fillna(0) + cells["sessions"].fillna(0) > 0].groupby(keys, observed=True)["page"].nunique(),
        ctr=sums["clicks"] / sums["impressions"].where(sums["impressions"] > 0),
        position=weighted_position(sums["position_sum"], sums["placed"]),
        pull=(sums["clicks_plain"] / sums["expected_clicks"]).where(sums["expected_clicks"] >= THIN_CLICKS),
        engagement_rate=sums["engaged_sessions"] / sums["sessions"].where(sums["sessions"] > 0),
        seconds_per_session=sums["engagement_seconds"] / sums["sessions"].where(sums["sessions"] > 0),
        conversions_per_session=sums["conversions"] / sums["sessions"].where(sums["sessions"] > 0),
    )
    p_values = {}
    for name, (count, base) in COMPARED.items():
        ratios = _beside(cells, count, base, shares=name == "engagement").reindex(table.index)
        table = table.assign(**{f"{name}_beside": ratios["ratio"], f"{name}_low": ratios["low"], f"{name}_high": ratios["high"]})
        p_values[name] = 2 * special.ndtr(-np.abs(np.log(ratios["ratio"]) / ratios["error"]).to_numpy(float))
    q = false_discovery(np.concatenate(list(p_values.values()))).reshape(len(COMPARED), -1)
    for (name, _), own in zip(COMPARED.items(), q, strict=True):
        side = np.where(table[f"{name}_beside"] < 1, "low", "high")
        table[f"{name}_flag"] = np.where(np.nan_to_num(own, nan=1.0) < CHANCE, side, "")
    table = (
        table.reset_index().astype(dict.fromkeys(keys, "str")).assign(size=lambda t: t["impressions"].fillna(0) + t["sessions"].fillna(0))
    )
    order = table.sort_values(["dimension", "size", "value"], ascending=[True, False, True], kind="stable", ignore_index=True)
    return order.fillna({"pages": 0}).astype({"pages": "int64"})[SPLITS]


def _beside(cells: pd.DataFrame, count: str, base: str, *, shares: bool) -> pd.DataFrame:
    """By dimension and value, its rate relative to that of all other values at fixed pages: ratio, low, high, error.

    The Mantel-Haenszel ratio for rates in many small strata (Rothman & Greenland 1998, Modern Epidemiology, ch. 15), with pages as strata.
    The error of its logarithm is the larger of the counting error (Greenland & Robins 1985, Biometrics 41:55) and the error between pages,
    since values differ more on some pages than on others. shares: whether `count` is a part of `base`, as engaged sessions are of sessions.
    """
    rows = cells.dropna(subset=[count, base])
    rows = rows[rows[base] > 0]
    whole = rows.groupby(["dimension", "page"], observed=True)[[count, base]].transform("sum")
    other_count, other_base = whole[count] - rows[count], (whole[base] - rows[base]).clip(lower=0.0)
    rows = rows.assign(
        mine=rows[count] * other_base / whole[base],
        others=other_count * rows[base] / whole[base],
        counting=whole[count] * rows[base] * other_base / whole[base] ** 2 - (rows[count] * other_count / whole[base] if shares else 0.0),
    )
    rows = rows[other_base > 0]
    by = [rows["dimension"], rows["value"]]
    sums = rows.groupby(by, observed=True)[["mine", "others", "counting", base]].sum()
    enough = (sums["mine"] > 0) & (sums["others"] > 0) & (sums["counting"] >= THIN_CLICKS)
    ratio = (sums["mine"] / sums["others"].where(sums["others"] > 0)).where(enough)
    number = rows.groupby(by, observed=True).ngroup().to_numpy()  # in the order of the sums
    off = rows["mine"] - rows["others"] * ratio.to_numpy()[number]
    pages = pd.Series(np.bincount(number, minlength=len(sums)), index=sums.index)
    share = pd.Series(np.bincount(number, rows[base].to_numpy(float) ** 2, len(sums)), index=sums.index) / sums[base] ** 2
    worth = 1 / share  # the number of equally large pages with the same information (Kish 1965, Survey Sampling, ch. 8)
    by_pages = np.bincount(number, off.to_numpy(float) ** 2, len(sums)) * worth / (worth - 1).clip(lower=1) / sums["mine"] ** 2
    by_counting = sums["counting"] / (sums["mine"] * sums["others"]) + np.where(worth < ENOUGH_PAGES, PAGE_SPREAD**2 * share, 0.0)
    error = np.sqrt(np.maximum(by_pages.where(pages > 1, 0.0), by_counting)).where(enough)
    wide = special.stdtrit((worth - 1).clip(lower=3).to_numpy(np.float64), 0.975) * error
    return pd.DataFrame({"ratio": ratio, "low": ratio * np.exp(-wide), "high": ratio * np.exp(wide), "error": error})
