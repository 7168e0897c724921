"""Openings: clicks within reach, by page and query."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core.curve import FAR, Curve
from nibbet.core.pull import pull_interval, shrunk_pull
from nibbet.core.split import Sight
from nibbet.core.standing import Z80, Standing
from nibbet.core.sunk import MAD
from nibbet.core.tables import SECOND_PAGE, rows_at, spelt
from nibbet.core.thresholds import Thresholds
from nibbet.core.windows import MONTH_DAYS

Floats = NDArray[np.float64]

COLUMNS = ["page", "query", "kind", "position", "clicks", "expected_clicks", "gain", "gain_low", "gain_high"]


#: ratio of its position to that in the reference window from which a page has sunk, in addition so many standard deviations beyond the
#: median of the site; least impressions of answered queries
SUNK, SUNK_BEYOND, SUNK_SHOWN = 1.15, 2.0, 100
#: impressions up to SECOND_PAGE from which a page shows how many a page usually has further down, least number of such pages, standard
#: deviations (of the logarithm) beyond the median from which a page has unusually many, and share of pages with any from which they are common
TAIL_SHOWN, TAIL_PAGES, TAIL_BEYOND, COMMON = 100, 8, 2.0, 0.2
#: columns kept with an opening for later sums
MORE = ["impressions", "topic", "position_sum", "placed"]


def find_openings(
    pairs: pd.DataFrame, curve: Curve, sight: Sight, days: int, t: Thresholds, *, standing: Standing, section_pull: pd.Series | None = None
) -> pd.DataFrame:
    """Every (page, query) with clicks within reach.

    Args:
        pairs: page, query, brand, role, answer, position, clicks, impressions, expected_clicks in a window of `days` days.
        standing: the positions of the good pages of this site, the target of climbs and strays; section_pull: by page, see
            `core.section_pull`, 1 if None.
    Returns:
        COLUMNS and, where the pairs have them, MORE, in the order of the pairs and with their index (see `by_gain`): gain is extra clicks a
        month, its low and high an 80% interval. climb: an answered query just below the positions that get clicks, gained when its
        page reaches the position of good pages and all its queries rise by the same factor; snippet: good position but low CTR, raised to
        the usual CTR; stray: a query that no page answers, with the gain of a page that does; only those that `stand_out`.
    """
    texts = [name for name in ("query", "topic") if name in pairs]
    measured = [name for name in ("page", "position", "clicks", "expected_clicks", *MORE) if name in pairs and name not in texts]
    place, role, expected = pairs["position"].to_numpy(float), pairs["role"], pairs["expected_clicks"]
    shown = (pairs["impressions"] > 0) & ~np.isnan(place) & ~pairs["brand"]
    answered = shown & (pairs["answer"] >= t.answers) & (role == "owner")
    of_section = pd.Series(1.0, index=pairs.index) if section_pull is None else pairs["page"].map(section_pull).fillna(1.0)
    usual = standing.usual_pull * of_section
    low_pull = pairs["clicks"] < t.snippet_pull * usual * expected
    climbs = rows_at(pairs, answered & (place >= t.climb_position[0]) & (place <= t.climb_position[1]), measured)
    snippets = rows_at(pairs, answered & (place < t.climb_position[1] / 2) & low_pull & (expected >= 5), measured)
    strays = rows_at(pairs, shown & (role == "stray"), measured)
    strays = strays[stand_out(strays, pairs)]
    page_place = _page_places(rows_at(pairs, answered, ["page", "position", "impressions"]), climbs)
    parts: list[pd.DataFrame] = [
        _no_better_than_before(
            _among_good(climbs, "climb", page_place, curve, sight, days, standing, beside_alike(climbs)),
            _sunk(pairs, answered),
            curve,
            sight,
            days,
            standing,
        ),
        _snippet(snippets, days, standing, usual.loc[snippets.index]),
        _among_good(strays, "stray", strays["position"], curve, sight, days, standing),
    ]
    result = pd.concat([rows_at(part, part["gain"] > 0, list(part.columns)) for part in parts])
    return result.assign(**{name: pairs[name].loc[result.index].array for name in texts})


def by_gain(openings: pd.DataFrame) -> pd.DataFrame:
    """The openings of `find_openings` by gain, ties in the order of the query map: COLUMNS and MORE, with categories as texts."""
    order = np.lexsort([openings.index.to_numpy(), openings["page"].to_numpy(), -openings["gain"].to_numpy(float)])
    result = openings.iloc[order].reset_index(drop=True)
    result = result.assign(**{name: spelt(result[name]) for name in ("query", "topic") if name in result})
    return result[[*COLUMNS, *(name for name in MORE if name in result)]]


def climbs_of_pages(openings: pd.DataFrame) -> pd.DataFrame:
    """The sums of the climbs of each page: queries, shown (impressions), gain, gain_low, gain_high, reach, reach_low (sums), sunk, and first,
    the query with the largest gain, indexed by page.

    Args:
        openings: from `find_openings`.
    """
    climbs = openings[openings["kind"] == "climb"]
    if not climbs["page"].is_monotonic_increasing:
        climbs = climbs.sort_values("page", kind="stable")
    page, gain = climbs["page"].to_numpy(), climbs["gain"].to_numpy(float)
    start = np.flatnonzero(np.diff(page, prepend=-1))
    queries = np.diff(start, append=len(page))
    if not len(start):
        none = {name: pd.Series(dtype="float64") for name in ("queries", "shown", *SUMMED, "sunk")}
        return pd.DataFrame({**none, "first": pd.Series(dtype="str")}, index=pd.Index([], dtype="int64", name="page"))
    most = np.flatnonzero(gain == np.repeat(np.maximum.reduceat(gain, start), queries))[::-1]
    first = np.empty(len(start), dtype=np.int64)
    first[np.searchsorted(start, most, side="right") - 1] = most  # the first of a page is written last
    sums = {name: np.add.reduceat(climbs[name].to_numpy(float), start) for name in SUMMED}
    shown = np.add.reduceat(climbs["impressions"].to_numpy(), start)
    named = spelt(climbs["query"].iloc[first])
    sunk = climbs["sunk"].to_numpy(float)[start]
    columns = {"queries": queries, "shown": shown, **sums, "sunk": sunk, "first": named.array}
    return pd.DataFrame(columns, index=pd.Index(page[start], name="page"))


#: columns of climbs that are summed
SUMMED = ("gain", "gain_low", "gain_high", "reach", "reach_low")


def _page_places(answered: pd.DataFrame, rows: pd.DataFrame) -> pd.Series:
    """The mean position of the page of each row over all that it answers, up to SECOND_PAGE, weighted by impressions; that of the row itself
    where no page is known.

    Args:
        answered: page, position, impressions; rows: some of them.
    """
    near = answered[answered["position"] <= SECOND_PAGE]
    sums = near.assign(weighted=near["position"] * near["impressions"]).groupby("page")[["weighted", "impressions"]].sum()
    return rows["page"].map(sums["weighted"] / sums["impressions"]).where(rows["page"] >= 0, rows["position"])


def stand_out(strays: pd.DataFrame, pairs: pd.DataFrame) -> pd.Series:
    """Which strays say more of their page than that it is a page: those up to SECOND_PAGE, and further down those of a page that has
    unusually many there, in proportion to its other impressions. Every page is listed somewhere for much that it is not about.

    Args:
        strays: page, position, impressions; pairs: page, position, impressions: the query map.
    """
    near, deep = _shown_near(pairs), strays["position"] > SECOND_PAGE
    tail = strays["impressions"].where(deep, 0).groupby(strays["page"]).sum().reindex(near.index).fillna(0) / near
    long = tail > _most_usual(tail.to_numpy(float))
    return ~deep | strays["page"].map(long).fillna(True).astype(bool)


def stray_shares(topics: pd.DataFrame, pairs: pd.DataFrame) -> pd.DataFrame:
    """The topics with stray_share, their impressions / those of their page up to SECOND_PAGE (null for a page with few, and for topics on the first
    page of results, where a page is found), and usual_share, the most that the largest such topic of a page usually has here (0 where few
    pages have any).

    Args:
        topics: page, topic, impressions, position: the strays of each page by topic; pairs: page, position, impressions: the query map.
    """
    near = _shown_near(pairs)
    share = (topics["impressions"] / topics["page"].map(near)).where(topics["position"] > FAR)
    largest = share.groupby(topics["page"]).max().reindex(near.index).fillna(0.0)
    return topics.assign(stray_share=share, usual_share=_most_usual(largest.to_numpy(float)))


def _shown_near(pairs: pd.DataFrame) -> pd.Series:
    """The impressions up to SECOND_PAGE of each page that has TAIL_SHOWN or more."""
    rows = rows_at(pairs, (pairs["position"] <= SECOND_PAGE) & (pairs["page"] >= 0), ["page", "impressions"])
    near = rows.groupby("page")["impressions"].sum()
    return near[near >= TAIL_SHOWN]


def _most_usual(shares: Floats) -> float:
    """The share of a page from which it is unusual: TAIL_BEYOND standard deviations (of the logarithm) above the median of the pages that have any;
    0 where fewer than COMMON have any, or pages are few.
    """
    some = np.log(shares[shares > 0])
    if len(shares) < TAIL_PAGES or len(some) < COMMON * len(shares):
        return 0.0
    middle = float(np.median(some))
    return float(np.exp(middle + TAIL_BEYOND * MAD * float(np.median(np.abs(some - middle)))))


def within_reach(pairs: pd.DataFrame, curve: Curve, sight: Sight, days: int, place: float) -> pd.DataFrame:
    """Clicks within reach if every query below `place` rose to it: page, query, position, clicks, gain, gain_low, gain_high.

    Args:
        pairs: as in `find_openings`; place: the target position, from 1.
    Returns:
        By gain (extra clicks a month); low is for half the way there (in log position), high for a position a third better.
    """
    lower = pairs[(pairs["position"] > place) & (pairs["impressions"] > 0) & ~pairs["brand"]]
    ends = (np.sqrt(lower["position"] * place), place, max(place * 0.7, 1.0))
    result = _sized(lower, "climb", curve, sight, days, ends)
    result = result[result["gain"] > 0].sort_values(["gain", "page", "query"], ascending=[False, True, True], ignore_index=True)
    return result[["page", "query", "role", "position", "clicks", "gain", "gain_low", "gain_high"]]


def _sized(rows: pd.DataFrame, kind: str, curve: Curve, sight: Sight, days: int, places: tuple[object, object, object]) -> pd.DataFrame:
    """Rows with their gain at the given positions (low, middle, high)."""
    demand = sight.searches(rows["impressions"].to_numpy(float), rows["position"].to_numpy(float))
    gains = {}
    for name, place in zip(("gain_low", "gain", "gain_high"), places, strict=True):
        target = np.minimum(np.broadcast_to(np.asarray(place, dtype=float), len(rows)), rows["position"].to_numpy(float))
        gains[name] = ((demand * curve.rate(target) - rows["clicks"]) * MONTH_DAYS / days).clip(lower=0.0)
    return rows.assign(kind=kind, **gains)


def _among_good(
    rows: pd.DataFrame,
    kind: str,
    page_place: pd.Series,
    curve: Curve,
    sight: Sight,
    days: int,
    standing: Standing,
    pull: Floats | float = 1.0,
) -> pd.DataFrame:
    """Rows with their gain once their pages, now at `page_place`, have the position of good pages, with `pull` times the usual CTR."""
    position, place = rows["position"].to_numpy(float), page_place.to_numpy(float)
    demand, clicks = sight.searches(rows["impressions"].to_numpy(float) * pull, position), rows["clicks"].to_numpy(float)
    sure = sight.certainty(position)
    return rows.assign(kind=kind, **standing.gains(demand, clicks, place, curve, days, position_ratio=position / place, certainty=sure))


def _sunk(pairs: pd.DataFrame, answered: pd.Series) -> pd.Series:
    """Ratio of the position of each page to that in the reference window, over answered queries found then up to SECOND_PAGE; only pages that
    sank further than positions wander here.
    """
    if "position_reference" not in pairs:
        return pd.Series(dtype="float64")
    both = answered & (pairs["impressions_reference"] > 0) & (pairs["position_reference"] <= SECOND_PAGE)
    rows = rows_at(pairs, both, ["page", "position", "position_reference", "impressions", "impressions_reference"])
    weight = rows[["impressions", "impressions_reference"]].min(axis=1).astype(float)
    fell = np.log(rows["position"] / rows["position_reference"]) * weight
    sums = pd.DataFrame({"fell": fell, "weight": weight}).groupby(rows["page"]).sum()
    sums = sums[sums["weight"] >= SUNK_SHOWN]
    lower = sums["fell"] / sums["weight"]
    wander = MAD * (lower - lower.median()).abs().median()
    return lower[lower >= max(np.log(SUNK), lower.median() + SUNK_BEYOND * wander)].map(np.exp) if len(lower) else lower


def _no_better_than_before(
    climbs: pd.DataFrame, sunk: pd.Series, curve: Curve, sight: Sight, days: int, standing: Standing
) -> pd.DataFrame:
    """Limits the climbs of pages that sank to the position they had, as for decay. Adds reach and reach_low, the gain at the positions
    of good pages, and sunk, the ratio of the position to the former one, null where the page did not sink.
    """
    times = climbs["page"].map(sunk)
    old = climbs["position"] / times.fillna(1.0)
    demand = sight.searches(climbs["impressions"].to_numpy(float), climbs["position"].to_numpy(float))
    restored = (demand * standing.rate(old.to_numpy(float), curve) - climbs["clicks"]).clip(lower=0.0) * MONTH_DAYS / days
    part = (restored / climbs["gain"].where(climbs["gain"] > 0)).clip(upper=1.0).where(times.notna(), 1.0).fillna(1.0)
    capped = {name: climbs[name] * part for name in ("gain", "gain_low", "gain_high")}
    return climbs.assign(reach=climbs["gain"], reach_low=climbs["gain_low"], sunk=times, **capped)


def beside_alike(rows: pd.DataFrame) -> Floats:
    """The pull of each row relative to all of them: above 1 for a higher CTR. An answer box or a dull title that takes clicks at a low
    position also takes them at higher ones.

    Args:
        rows: clicks, expected_clicks. Clicks at such positions are fewer than the curve expects, so the scale is the sum of all rows.
    """
    clicks, expected = rows["clicks"].to_numpy(float), rows["expected_clicks"].to_numpy(float)
    if not clicks.sum() or not expected.sum():
        return np.ones(len(rows))
    return np.nan_to_num(shrunk_pull(clicks, expected * clicks.sum() / expected.sum()), nan=1.0)


def _snippet(rows: pd.DataFrame, days: int, standing: Standing, usual: pd.Series) -> pd.DataFrame:
    """Rows with their gain at the usual pull; the spread of usual pages makes the interval."""
    expected, wide = rows["expected_clicks"], np.exp(Z80 * standing.pull_spread)
    low, high = pull_interval(rows["clicks"].to_numpy(float), expected.to_numpy(float), level=0.8)
    ends = (("gain_low", 1 / wide, high), ("gain", 1.0, rows["clicks"] / expected), ("gain_high", wide, low))
    return rows.assign(
        kind="snippet",
        **{name: (expected * (usual * mended - pull)).clip(lower=0.0) * MONTH_DAYS / days for name, mended, pull in ends},
    )
