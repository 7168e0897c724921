"""The positions and pull of the good pages of a site: what a page can reach once its fault is mended."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from nibbet.core.curve import Curve
from nibbet.core.pull import BAD_PULL, BAD_SHARE, MOST_WEIGHT, TELLING, usual_pull
from nibbet.core.windows import MONTH_DAYS

Floats = NDArray[np.float64]

#: clicks (at the mean CTR of good pages) from which the position of a page counts, and least number of such pages
TELLING_CLICKS, TELLING_PAGES = 20, 12
#: weight of the default positions, in pages
ASSUMED = 2.0
#: positions beyond which a page has no standing; the log odds that a page stands anywhere up to it, one in eight
LAST_SEEN, STREWN = 30.0, -2.0
#: prior standard deviation of the exponent of pull by position, and last position that contributes to it
TILT, LAST_TILTED = 0.3, 20.0
#: limits of the pull of good pages, wide, so that they bind only where a few odd pages decide
PULLS = (0.5, 2.0)
#: the normal quantile of an 80% interval
Z80 = 1.2816
#: coefficient of variation of demand estimated from impressions and sight
DEMAND_SPREAD = 0.2
#: grid of log positions for interpolating gains, fine enough for a smoothly falling curve
LAST_PLACE = 200.0
GRID = np.linspace(0.0, np.log(LAST_PLACE), 400)
#: quantiles of good pages over which a mean gain is taken
MIDDLE = (0.05, 0.15, 0.25, 0.35, 0.45, 0.55, 0.65, 0.75, 0.85, 0.95)


def with_withheld(share: pd.Series) -> pd.Series:
    """The factor from the sum over the named queries of a page to all its queries: withheld impressions are assumed to behave like the
    others.
    """
    return 1 / (1 - share.fillna(0.0).clip(upper=0.8))


@dataclass(frozen=True)
class Standing:
    """Median and spread (of the logarithm) of the positions of good pages for what they answer, with the spread of lower ones in spread_below;
    the mean pull of pages there, and `tilt`, the exponent with which pull grows with position: the curve includes queries that pages do not
    answer, and falls faster than the CTR of answered ones. usual_pull is that of pages whose titles are not poor, pull_spread its spread, poor_share the share of pages with poor
    titles.
    """

    place: float = 3.0
    spread: float = 0.4
    pull: float = 1.0
    pull_spread: float = 0.2
    usual_pull: float = 1.0
    tilt: float = 0.0
    poor_share: float = BAD_SHARE
    spread_below: float = 0.4
    share_of_held: float | None = None
    "Where given, the place is halfway (in the logarithm) between that of good pages and this share of the place held."

    def _centre(self, at: Floats) -> Floats:
        return self.place * at**0 if self.share_of_held is None else np.sqrt(self.place * np.maximum(at * self.share_of_held, 1.0))

    def places(self, at: Floats, worse: float) -> Floats:
        """The position of a page at `at` once mended: the quantile `worse` of the positions of good pages, or `at` where that is better,
        because a mended page falls nowhere.
        """
        at = np.maximum(at, 1.0)
        centre = self._centre(at)
        spread = self.spread_below if worse > 0.5 else self.spread
        placed: Floats = np.clip(centre * np.exp(spread * special.ndtri(worse)), 1.0, at)
        return placed

    def rate(self, places: Floats, curve: Curve) -> Floats:
        """Clicks / searches of a good page at each position."""
        rate: Floats = curve.rate(places) * self.pull * (places / self.place) ** self.tilt
        return rate

    def gains(
        self,
        demand: Floats,
        clicks: Floats,
        place_held: Floats,
        curve: Curve,
        days: int,
        *,
        position_ratio: Floats | float = 1.0,
        certainty: Floats | float = 1.0,
    ) -> dict[str, Floats]:
        """Extra clicks a month of rows whose pages reach the positions of good pages: gain (mean), gain_low and gain_high (80%).

        Args:
            demand: impressions in `days` days on the first page; clicks: present clicks; place_held: position of the page of each row, than
                which it will not be worse; position_ratio: position of the row / that of its page, kept when the page climbs; certainty: of
                the demand, see `core.split.Sight.certainty`.
        """
        at, middle, ends = np.log(np.clip(place_held, 1.0, LAST_PLACE)), np.zeros(len(demand)), []
        for worse in (*MIDDLE, 0.9, 0.1):
            place = np.exp(np.interp(at, GRID, np.log(self.places(np.exp(GRID), worse)))) * position_ratio
            rate = self.rate(np.maximum(place, 1.0), curve)
            if worse in MIDDLE:
                middle += demand * rate / len(MIDDLE)
            else:
                ends.append(demand * rate)
        noise = Z80 * np.hypot(self.pull_spread, DEMAND_SPREAD) * middle
        low = middle - np.hypot(np.hypot(middle - ends[0], noise), middle * (1 - certainty))
        high = middle + np.hypot(np.hypot(ends[1] - middle, noise), middle * (1 / certainty - 1))
        month = MONTH_DAYS / days
        return {
            name: np.maximum((value - clicks) * month, 0.0) for name, value in (("gain", middle), ("gain_low", low), ("gain_high", high))
        }


def learn_standing(pages: pd.DataFrame, *, below: float) -> Standing:
    """The positions of the good pages of a site.

    Args:
        pages: position_answered, clicks_answered, impressions_answered, expected_answered, clicks_titled, expected_titled, trend (null
            without a lasting change); one row per page.
        below: the position from which on a page still has to climb.
    Returns:
        Estimated from pages with enough demand to be visited at the mean CTR of the site, a position better than `below` and no lasting
        fall. A site with few such pages gets the defaults.
    """
    good = pages[(pages["position_answered"] < below) & pages["trend"].isna()]
    shown = good["impressions_answered"]
    rate = good["clicks_answered"].sum() / max(shown.sum(), 1)
    good = good[shown * rate >= TELLING_CLICKS]  # selected by demand: selection by clicks would favour good positions
    usual, spread, poor = usual_pull(pages["clicks_titled"].to_numpy(float), pages["expected_titled"].to_numpy(float))
    if len(good) < TELLING_PAGES:
        return Standing(pull_spread=spread, poor_share=poor)
    place = np.log(good["position_answered"].to_numpy(float))
    middle, wide = _uncut(place, float(np.log(below)))
    tilt = _tilt(pages, spread)
    mean = _mean_pull(pages, usual, float(np.exp(middle)), tilt)
    pull, usual = (float(np.clip(one, *PULLS)) for one in (mean, usual))
    shown = pages["impressions_answered"] * rate >= TELLING_CLICKS
    every = pages.loc[shown & pages["trend"].isna() & (pages["position_answered"] < LAST_SEEN), "position_answered"].to_numpy(float)
    lower = max(wide, (_lower_end(np.log(every)) - middle) / Z80)
    return Standing(float(np.exp(middle)), wide, pull, spread, usual, tilt, poor, lower)


def _lower_end(place: Floats) -> float:
    """The log position that nine of ten pages of a site hold, apart from those that stand anywhere.

    Good pages are cut where a page still has to climb, which says little of how far below that its like may stand. By maximum likelihood
    of a normal distribution beside a uniform one, with a weak prior worth ASSUMED pages.
    """
    from scipy import optimize  # slow to import, and not needed where results are kept

    usual, width = np.log(Standing.place), Standing.spread

    def unlikely(given: Floats) -> float:
        mean, spread, strewn = given[0], np.exp(given[1]), special.expit(given[2])
        normal = np.exp(-((place - mean) ** 2) / 2 / spread**2) / spread / np.sqrt(2 * np.pi)
        fit = -np.log((1 - strewn) * normal + strewn / np.log(LAST_SEEN)).sum()
        prior = (mean - usual) ** 2 / 2 / width**2 + (given[1] - np.log(width)) ** 2 / 2 / 0.5**2 + (given[2] - STREWN) ** 2 / 2
        return float(fit + ASSUMED * prior)

    mean, spread, _ = optimize.minimize(unlikely, [np.median(place), np.log(width), STREWN], method="Nelder-Mead").x
    return float(mean + Z80 * np.exp(spread))


def _mean_pull(pages: pd.DataFrame, usual: float, place: float, tilt: float) -> float:
    """Clicks / expected clicks at `place` of pages whose titles are not poor, each weighing at most MOST_WEIGHT expected clicks."""
    rows = pages[(pages["expected_answered"] >= TELLING) & (pages["position_answered"] < LAST_TILTED) & pages["trend"].isna()]
    rows = rows[rows["clicks_titled"] >= np.sqrt(BAD_PULL) * usual * rows["expected_titled"]]  # closer to usual titles than to poor ones
    expected = rows["expected_answered"] * (rows["position_answered"] / place) ** tilt
    weight = expected.clip(upper=MOST_WEIGHT)
    return float((rows["clicks_answered"] / expected * weight).sum() / weight.sum()) if len(rows) else 1.0


def _tilt(pages: pd.DataFrame, spread: float) -> float:
    """Slope of the logarithm of pull on that of position, over visited pages: weighted least squares, shrunk to 0 with prior standard
    deviation TILT.
    """
    rows = pages[(pages["expected_answered"] >= 5) & (pages["clicks_answered"] > 0) & (pages["position_answered"] < LAST_TILTED)]
    clicks, expected = rows["clicks_answered"].to_numpy(float), rows["expected_answered"].to_numpy(float)
    x, y, weight = np.log(rows["position_answered"].to_numpy(float)), np.log(clicks / expected), 1 / (1 / expected + spread**2)
    if len(rows) < TELLING_PAGES:
        return 0.0
    x, y = x - np.average(x, weights=weight), y - np.average(y, weights=weight)
    return float(np.clip((weight * x * y).sum() / ((weight * x**2).sum() + 1 / TILT**2), -0.5, 0.5))


def _uncut(place: Floats, end: float) -> tuple[float, float]:
    """Mean and spread of a normal distribution that is observed only below `end`, by maximum likelihood.

    Good pages are selected by position, so pages slightly below it are missing from the sample and its mean would promise too much
    (truncated normal: Cohen 1959, Technometrics 1:217). A weak prior, worth ASSUMED pages, stabilises both.
    """
    from scipy import optimize  # slow to import, and not needed where results are kept

    usual, width = Standing.place, Standing.spread

    def unlikely(given: Floats) -> float:
        mean, spread = given[0], np.exp(given[1])
        inside = special.log_ndtr((end - mean) / spread)
        fit = ((place - mean) ** 2 / 2 / spread**2 + given[1] + inside).sum()
        return float(fit + ASSUMED * ((mean - np.log(usual)) ** 2 / 2 / width**2 + (given[1] - np.log(width)) ** 2 / 2 / 0.5**2))

    result = optimize.minimize(unlikely, [place.mean(), np.log(max(place.std(), 0.1))], method="Nelder-Mead").x
    return float(np.clip(result[0], 0.0, end)), float(np.clip(np.exp(result[1]), 0.1, 0.8))
