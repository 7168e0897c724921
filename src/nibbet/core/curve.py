"""The CTR curve of a site: clicks / impressions by position, learnt per segment with partial pooling."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core.bins import BINS, BINS_PER_E, made_to_fall
from nibbet.core.pull import usual_pull

Floats = NDArray[np.float64]

#: variation between pages at the same position (coefficient of variation), so that no large page dominates a bin
PAGE_SPREAD = 0.35
#: expected clicks at which a bin of one segment counts as much as the pooled curve
POOLING_CLICKS = 25.0
#: expected clicks of the general shape, the prior for a site with few clicks
PRIOR_CLICKS = 4.0
SMALL_SITE_CLICKS = 300
#: upper limit of the CTR of a page; limits of the mean pull of usual pages relative to that of all
MOST_RATE, LEAST_USUAL, MOST_USUAL = 0.95, 0.8, 1.25
#: height and exponent of the general shape
FIRST_RATE, FALL = 0.28, -1.1
#: position beyond which a page is on no first page of results, multiple of the usual clicks there that no such pages get, and clicks that
#: may be chance
FAR, MOST_FAR, FAR_CLICKS = 10.0, 2.5, 50.0
SEGMENT = ["device", "surface", "brand"]


@dataclass(frozen=True)
class Curve:
    """The CTR curve.

    rates: one row per (device, surface, brand, bin): rate (0 to 1) in the middle of the bin, slope (of its logarithm by log
    position), low, high (95%), clicks, impressions. `learnt` is false for a site with too few clicks.
    """

    rates: pd.DataFrame
    learnt: bool

    def rate(self, position: Floats, *, brand: bool = False) -> Floats:
        """CTR at positions, over all devices and surfaces, weighted by the impressions of the site."""
        rows = self.rates[self.rates["brand"] == brand]
        if rows.empty:
            return general_shape(position)
        shares = rows.groupby(["device", "surface"])["impressions"].transform("sum")
        mean = (rows["rate"] * shares).groupby(rows["bin"]).sum() / shares.groupby(rows["bin"]).sum()
        rate: Floats = np.interp(np.log(np.maximum(position, 1.0)), bin_centre(mean.index.to_numpy(dtype=float)), mean.to_numpy())
        return rate


def bin_centre(number: Floats) -> Floats:
    """The log position in the middle of a bin."""
    centre: Floats = (number + 0.5) / BINS_PER_E
    return centre


def general_shape(position: Floats) -> Floats:
    """The prior for a site with few clicks: a falling power law. Only its slope matters, since the level of the site replaces its height."""
    shape: Floats = FIRST_RATE * np.asarray(position, dtype=float) ** FALL
    return shape


def places_tell(clicks: Floats, impressions: Floats, position: Floats) -> bool:
    """Whether the mean positions of pages say where they are found: not where pages beyond the first results page get more than MOST_FAR times
    the clicks of such positions. They are then shown near the top for some queries and far down for many others.

    Args:
        clicks, impressions, position: of each page, over all its queries.
    """
    far = (position > FAR) & (impressions > 0)
    usual = float((impressions[far] * general_shape(position[far])).sum())
    return float(clicks[far].sum()) <= max(MOST_FAR * usual, FAR_CLICKS)


def learn_curve(cells: pd.DataFrame) -> Curve:
    """The CTR curve of a site.

    Args:
        cells: one row per (device, surface, brand, bin, page): clicks, impressions (counts). `bin` is floor(10 x ln position),
            `brand` a truth value; device and surface are texts, "" where the source has none.
    Returns:
        A Curve whose rates fall with position in every segment. Within a bin, pages are weighted by the inverse of their variance
        (binomial plus the variation between pages), so that a few large or badly titled pages do not bend it. Each brand class has a pooled
        curve that falls by isotonic regression (Barlow et al. 1972); its segments are shrunk to that curve times their own level.
    """
    placed = cells[(cells["impressions"] > 0) & cells["bin"].notna()]
    parts = [_of_usual_pages(_brand_class(rows, bool(brand)), rows) for brand, rows in placed.groupby("brand")]
    rates = (
        pd.concat(parts, ignore_index=True)
        if parts
        else pd.DataFrame(columns=[*SEGMENT, "bin", "rate", "low", "high", "clicks", "impressions", "slope"])
    )
    return Curve(rates, bool(placed["clicks"].sum() >= SMALL_SITE_CLICKS))


#: a steeper slope is the effect of a bin without clicks, not of searchers; the limit also keeps every expectation above 0
STEEPEST = -4.0
#: expected clicks at which a country counts as much as the level of the site; least difference from 1 of a level that is used
COUNTRY_CLICKS, COUNTRY_APART = 60.0, 0.05


def country_levels(cells: pd.DataFrame, rates: pd.DataFrame) -> pd.DataFrame:
    """CTR of countries relative to the site at the same position: country, level (a factor), clicks, expected.

    Args:
        cells: country, device, surface, brand, bin, clicks, impressions; rates: of a Curve.
    Returns:
        One row per country whose level, shrunk to 1 where clicks are few, differs from 1 by COUNTRY_APART and by three standard errors.
        Countries share the shape of the curve, because one country has too few clicks for its own.
    """
    known = cells[cells["bin"].notna()].merge(rates[[*SEGMENT, "bin", "rate"]], on=[*SEGMENT, "bin"])
    known["expected"] = known["impressions"] * known["rate"]
    sums = known.groupby("country", as_index=False)[["clicks", "expected"]].sum()
    sums["level"] = (sums["clicks"] + COUNTRY_CLICKS) / (sums["expected"] + COUNTRY_CLICKS)
    apart = np.abs(np.log(sums["level"]))
    error = np.sqrt(1 / (sums["clicks"] + 1.0) + PAGE_SPREAD**2 / (sums["expected"] / 20 + 1.0))
    chosen: pd.DataFrame = sums[(apart >= COUNTRY_APART) & (apart >= 3 * error)].reset_index(drop=True)
    return chosen[["country", "level", "clicks", "expected"]]


def _of_usual_pages(rates: pd.DataFrame, cells: pd.DataFrame) -> pd.DataFrame:
    """The rates of usual pages. Pages with a low pull lower the mean of all pages and would hide behind it."""
    known = cells.merge(rates[[*SEGMENT, "bin", "rate"]], on=[*SEGMENT, "bin"])
    known["expected"] = known["impressions"] * known["rate"]
    sums = known.groupby("page")[["clicks", "expected"]].sum()
    usual = usual_pull(sums["clicks"].to_numpy(float), sums["expected"].to_numpy()).pull
    factor = float(np.clip(usual, LEAST_USUAL, MOST_USUAL))
    rates = rates.assign(**{name: np.minimum(rates[name] * factor, MOST_RATE) for name in ("rate", "low", "high")})
    slope = np.log(rates["rate"]).groupby([rates[name] for name in SEGMENT]).transform(lambda rate: np.gradient(rate.to_numpy()))
    return rates.assign(slope=np.clip(slope * BINS_PER_E, STEEPEST, 0.0))


def _brand_class(cells: pd.DataFrame, brand: bool) -> pd.DataFrame:
    centre = bin_centre(np.arange(BINS, dtype=float))
    shape = general_shape(np.exp(centre))
    shape = shape * _level(cells, shape)
    pooled = _falling(*_binned(cells, shape), shape)
    rows = []
    for (device, surface), part in cells.groupby(["device", "surface"]):
        base = pooled * _level(part, pooled)
        rate, weight = _binned(part, base)
        mixed = (rate * weight + base * POOLING_CLICKS) / (weight + POOLING_CLICKS)
        falling = made_to_fall(mixed, weight + POOLING_CLICKS)
        sums = part.groupby("bin")[["clicks", "impressions"]].sum().reindex(range(BINS), fill_value=0)
        spread = 1.96 / np.sqrt(weight + POOLING_CLICKS)
        rows.append(
            pd.DataFrame(
                {
                    "device": device,
                    "surface": surface,
                    "brand": brand,
                    "bin": np.arange(BINS),
                    "rate": np.minimum(falling, MOST_RATE),
                    "low": falling * np.exp(-spread),
                    "high": np.minimum(falling * np.exp(spread), 1.0),
                    "clicks": sums["clicks"].to_numpy(),
                    "impressions": sums["impressions"].to_numpy(),
                }
            )
        )
    return pd.concat(rows, ignore_index=True)


def _level(cells: pd.DataFrame, shape: Floats) -> float:
    """Observed clicks / clicks expected by the shape, with the weight of a page limited as in the curve."""
    expected = cells["impressions"].to_numpy() * shape[cells["bin"].to_numpy(dtype=int)]
    return float((cells["clicks"].sum() + 1.0) / (expected.sum() + 1.0))


def _binned(cells: pd.DataFrame, base: Floats) -> tuple[Floats, Floats]:
    """Per bin: the rate, pages weighted by inverse variance, and its weight in expected clicks."""
    number = cells["bin"].to_numpy(dtype=int)
    shown, clicks = cells["impressions"].to_numpy(float), cells["clicks"].to_numpy(float)
    expected = np.maximum(shown * base[number], 1e-9)
    share = 1.0 / (1.0 + PAGE_SPREAD**2 * expected)  # share of the clicks of a page that count as evidence
    top = np.bincount(number, share * clicks, BINS)
    bottom = np.bincount(number, share * shown, BINS)
    weight = np.bincount(number, share * expected, BINS)
    rate: Floats = np.where(bottom > 0, top / np.maximum(bottom, 1e-9), base)
    return rate, weight.astype(np.float64)


def _falling(rate: Floats, weight: Floats, shape: Floats) -> Floats:
    mixed = (rate * weight + shape * PRIOR_CLICKS) / (weight + PRIOR_CLICKS)
    falling: Floats = np.maximum(made_to_fall(mixed, weight + PRIOR_CLICKS), 1e-6)
    return falling
