"""Where a site's good pages stand and how they are chosen: what a page can hope for once it is mended."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import optimize, special

from nibbet.core.curve import Curve
from nibbet.core.pull import BAD_PULL, BAD_SHARE, MOST_WEIGHT, TELLING, usual_pull
from nibbet.core.windows import MONTH_DAYS

Floats = NDArray[np.float64]

#: clicks (at the mean CTR of good pages) from which a page's place tells where good pages stand, and pages from which a site tells it
TELLING_CLICKS, TELLING_PAGES = 20, 12
#: as many pages the assumption about places counts
ASSUMED = 2.0
#: how far the power of the place by which pull grows may be from 0 before a site tells it, and the place to which pages tell it
TILT, LAST_TILTED = 0.3, 20.0
#: the pull that a site is taken to have at least and at most
PULLS = (0.7, 1.3)
#: the normal quantile of an 80% interval
Z80 = 1.2816
#: how unsure a demand is that is read from impressions and how far searchers look (coefficient of variation)
DEMAND_SPREAD = 0.2
#: places between which gains are read: logarithms, fine enough for a curve that falls smoothly
LAST_PLACE = 200.0
GRID = np.linspace(0.0, np.log(LAST_PLACE), 400)
#: shares of good pages over which a mean gain is taken
MIDDLE = (0.05, 0.15, 0.25, 0.35, 0.45, 0.55, 0.65, 0.75, 0.85, 0.95)


def with_withheld(share: pd.Series) -> pd.Series:
    """What sums over a page's queries are multiplied by, for the share of impressions whose queries are withheld fares like the rest."""
    return 1 / (1 - share.fillna(0.0).clip(upper=0.8))


@dataclass(frozen=True)
class Standing:
    """Median and spread (of the logarithm) of the places of good pages for what they answer; the mean pull of pages there, and `tilt`, the power
    of the place by which it grows: the curve, which holds what pages do not answer, falls faster than their own choice does. usual_pull is
    that of pages whose titles are not poor, pull_spread how these differ, poor_share the share of pages whose titles are poor.
    """

    place: float = 3.0
    spread: float = 0.4
    pull: float = 1.0
    pull_spread: float = 0.2
    usual_pull: float = 1.0
    tilt: float = 0.0
    poor_share: float = BAD_SHARE
    beside: float | None = None
    "Where given, the place is halfway (in the logarithm) between that of good pages and this share of the place held."

    def _centre(self, at: Floats) -> Floats:
        return self.place * at**0 if self.beside is None else np.sqrt(self.place * np.maximum(at * self.beside, 1.0))

    def places(self, at: Floats, worse: float) -> Floats:
        """Where a page that stands at `at` would stand once mended: the place than which a share `worse` of good pages no worse than it
        stand better.
        """
        at = np.maximum(at, 1.0)
        centre = self._centre(at)
        top = special.ndtr(np.log(at / centre) / self.spread)
        there = special.ndtri(np.clip(worse * top, 1e-9, 1 - 1e-9))
        placed: Floats = np.clip(centre * np.exp(self.spread * there), 1.0, at)
        return placed

    def rate(self, places: Floats, curve: Curve) -> Floats:
        """How often a good page at each place is chosen when shown."""
        rate: Floats = curve.rate(places) * self.pull * (places / self.place) ** self.tilt
        return rate

    def gains(self, demand: Floats, clicks: Floats, place_held: Floats, curve: Curve, days: int) -> dict[str, Floats]:
        """Extra clicks a month of rows that would stand among the good pages: gain (mean), gain_low and gain_high (80%).

        Args:
            demand: impressions in `days` days on the first page; clicks: those had; place_held: the place than which they would not be worse.
        """

        rate = {worse: self.rate(self.places(np.exp(GRID), worse), curve) for worse in (0.9, 0.1, *MIDDLE)}
        at = np.log(np.clip(place_held, 1.0, LAST_PLACE))
        mean, few, many = (np.interp(at, GRID, one) for one in (np.mean([rate[w] for w in MIDDLE], axis=0), rate[0.9], rate[0.1]))
        middle = demand * mean
        noise = Z80 * np.hypot(self.pull_spread, DEMAND_SPREAD) * middle
        low = middle - np.hypot(middle - demand * few, noise)
        high = middle + np.hypot(demand * many - middle, noise)
        month = MONTH_DAYS / days
        return {
            name: np.maximum((value - clicks) * month, 0.0) for name, value in (("gain", middle), ("gain_low", low), ("gain_high", high))
        }


def learn_standing(pages: pd.DataFrame, *, below: float) -> Standing:
    """Where the good pages of a site stand.

    Args:
        pages: position_answered, clicks_answered, impressions_answered, expected_answered, clicks_titled, expected_titled, trend (null where nothing lasting befell the page); one row per page.
        below: the place from which on a page counts as one that has still to climb.
    Returns:
        From pages that would be visited at the site's mean CTR there, stand above `below` and have not fallen; a site with few of them leans on the defaults.
    """
    good = pages[(pages["position_answered"] < below) & pages["trend"].isna()]
    shown = good["impressions_answered"]
    rate = good["clicks_answered"].sum() / max(shown.sum(), 1)
    good = good[shown * rate >= TELLING_CLICKS]  # by what is wanted of them: clicks alone would choose those that stand high
    usual, spread, poor = usual_pull(pages["clicks_titled"].to_numpy(float), pages["expected_titled"].to_numpy(float))
    if len(good) < TELLING_PAGES:
        return Standing(pull_spread=spread, poor_share=poor)
    place = np.log(good["position_answered"].to_numpy(float))
    middle, wide = _uncut(place, float(np.log(below)))
    tilt = _tilt(pages, spread)
    mean = _mean_pull(pages, usual, float(np.exp(middle)), tilt)
    pull, usual = (float(np.clip(one, *PULLS)) for one in (mean, usual))
    return Standing(float(np.exp(middle)), wide, pull, spread, usual, tilt, poor)


def _mean_pull(pages: pd.DataFrame, usual: float, place: float, tilt: float) -> float:
    """Clicks over clicks expected at `place` of pages whose titles are not poor, those of none weighing more than MOST_WEIGHT expected ones."""
    rows = pages[(pages["expected_answered"] >= TELLING) & (pages["position_answered"] < LAST_TILTED) & pages["trend"].isna()]
    rows = rows[rows["clicks_titled"] >= np.sqrt(BAD_PULL) * usual * rows["expected_titled"]]  # nearer to usual than to poor ones
    expected = rows["expected_answered"] * (rows["position_answered"] / place) ** tilt
    weight = expected.clip(upper=MOST_WEIGHT)
    return float((rows["clicks_answered"] / expected * weight).sum() / weight.sum()) if len(rows) else 1.0


def _tilt(pages: pd.DataFrame, spread: float) -> float:
    """Slope of the logarithm of pull on that of the place, over pages that are visited: weighted least squares, drawn to 0 as by one observation
    TILT off.
    """
    rows = pages[(pages["expected_answered"] >= 5) & (pages["clicks_answered"] > 0) & (pages["position_answered"] < LAST_TILTED)]
    clicks, expected = rows["clicks_answered"].to_numpy(float), rows["expected_answered"].to_numpy(float)
    x, y, weight = np.log(rows["position_answered"].to_numpy(float)), np.log(clicks / expected), 1 / (1 / expected + spread**2)
    if len(rows) < TELLING_PAGES:
        return 0.0
    x, y = x - np.average(x, weights=weight), y - np.average(y, weights=weight)
    return float(np.clip((weight * x * y).sum() / ((weight * x**2).sum() + 1 / TILT**2), -0.5, 0.5))


def _uncut(place: Floats, end: float) -> tuple[float, float]:
    """Mean and spread of a normal distribution of which only what lies below `end` was seen, by likelihood.

    Good pages are looked for above a place, so that those that stand a little below it are missing among them: their middle alone would
    promise too much (truncated normal: Cohen 1959, Technometrics 1:217). A weak prior, as much as ASSUMED pages tell, holds the two.
    """
    usual, width = Standing.place, Standing.spread

    def unlikely(given: Floats) -> float:
        mean, spread = given[0], np.exp(given[1])
        inside = special.log_ndtr((end - mean) / spread)
        fit = ((place - mean) ** 2 / 2 / spread**2 + given[1] + inside).sum()
        return float(fit + ASSUMED * ((mean - np.log(usual)) ** 2 / 2 / width**2 + (given[1] - np.log(width)) ** 2 / 2 / 0.5**2))

    result = optimize.minimize(unlikely, [place.mean(), np.log(max(place.std(), 0.1))], method="Nelder-Mead").x
    return float(np.clip(result[0], 0.0, end)), float(np.clip(np.exp(result[1]), 0.1, 0.8))
