"""Splits each change of clicks exactly into demand, rank, pull and access."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core.bins import made_to_fall
from nibbet.core.tables import PARTS, SECOND_PAGE
from nibbet.core.windows import Windows
from nibbet.core.words import as_typed, numbered

Floats = NDArray[np.float64]

#: default share of searches that show a result at a position, relative to the first page; (position, share). Positions are daily averages
#: that vary by a fifth and more, so the edge of the first page is blurred
SEEN = (
    (1.0, 1.0),
    (7.0, 0.98),
    (9.0, 0.86),
    (10.5, 0.7),
    (12.0, 0.55),
    (15.0, 0.44),
    (20.0, 0.32),
    (30.0, 0.18),
    (50.0, 0.07),
    (100.0, 0.03),
)
PLACES, SHARES = (np.log(np.array(column)) for column in zip(*SEEN, strict=True))
#: impressions in both windows from which a pair contributes to the estimate of sight, and weight of the default in clicks
TEACHES, ASSUMED = 30, 25.0
#: the median of the square of a standard normal variable, to turn a median square into a variance
MIDDLE_SQUARE = 0.455
#: least share: below it, demand would be estimated from almost nothing
LEAST_SEEN = float(np.log(0.01))


@dataclass(frozen=True)
class Sight:
    """How far searchers look: the logarithm of the share of searches that show a result, at each of PLACES. `learnt` from this site or the
    default;
    `error`: relative error of a change of that logarithm.
    """

    log_share: Floats
    learnt: bool
    error: float = 0.35

    def share(self, position: Floats) -> Floats:
        """Share of searches that show a result at this position, relative to the first page; 1 where the position is unknown."""
        place = np.log(np.maximum(np.nan_to_num(np.asarray(position, dtype=np.float64), nan=1.0), 1.0))
        share: Floats = np.exp(np.interp(place, PLACES, self.log_share))
        return share

    def searches(self, impressions: Floats, position: Floats) -> Floats:
        """The searches that impressions at this position stand for.

        Further down than SECOND_PAGE the impressions may be those of searchers who look so far, or of programs, and then stand for no more
        searches than there: the geometric mean of both.
        """
        counted: Floats = impressions / np.sqrt(self.share(position) * self.share(np.minimum(position, SECOND_PAGE)))
        return counted

    def certainty(self, position: Floats) -> Floats:
        """The least number of searches that impressions may stand for, if programs look as far, / that of `searches`. They may be more by the same
        factor.
        """
        sure: Floats = np.sqrt(self.share(position) / self.share(np.minimum(position, SECOND_PAGE)))
        return sure


ASSUMPTION = Sight(SHARES, False)


def learn_sight(pairs: pd.DataFrame) -> Sight:
    """How far the searchers of this site look, from pairs that moved between two windows and, where a source has the number of searches,
    from impressions per search.

    Args:
        pairs: query, impressions, impressions_reference, position, position_reference of one (page, query) a row, and demand (searches of
            the query in the recent window) where known.
    Returns:
        The share at each of PLACES. Impressions change with demand and with visibility at the new position. Over many pairs, the
        demand of those that moved and of those that stayed changes alike, so a weighted least-squares fit of the log ratio on the
        two positions gives the shares. So do impressions per search relative to those of the first page. The shares fall with position
        (isotonic regression), and are shrunk to SEEN where there is little data.
    """
    shown = np.minimum(pairs["impressions"].to_numpy(float), pairs["impressions_reference"].to_numpy(float))
    usable = (shown >= TEACHES) & pairs["position"].notna().to_numpy() & pairs["position_reference"].notna().to_numpy()
    known = _seen_of_searches(pairs)
    if usable.sum() < 50 and known is None:
        return ASSUMPTION
    rows = pairs[usable]
    now, then = (_weights(rows[name].to_numpy(float)) for name in ("position", "position_reference"))
    ratio = np.log(rows["impressions"].to_numpy(float) / rows["impressions_reference"].to_numpy(float))
    moved = now - then
    still = np.abs(moved).sum(axis=1) < 0.05
    ratio = ratio - (np.median(ratio[still] if still.sum() >= 20 else ratio) if len(ratio) else 0.0)
    # a ratio beyond those of pairs that stayed is due to demand rather than sight: such rows have less weight
    spread = max(float(np.median(np.abs(ratio[still])) * 1.48) if still.sum() >= 20 else 0.3, 0.1)
    design, seen, errors = moved[:, 1:], ratio, np.full(len(ratio), spread)
    if known is not None:
        design, seen = np.concatenate([design, known[0][:, 1:]]), np.concatenate([seen, known[1]])
        errors = np.concatenate([errors, np.full(len(known[1]), known[2])])
    design, seen = design * (spread / errors)[:, None], seen * spread / errors
    solution = SHARES[1:].copy()
    for _ in range(5):
        rest = seen - design @ solution
        weight = np.minimum(1.0, 1.5 * spread / np.maximum(np.abs(rest), 1e-9))  # Huber
        weighed = design * weight[:, None]
        normal = weighed.T @ design + np.eye(len(solution)) * ASSUMED * spread
        solution = np.linalg.solve(normal, weighed.T @ seen + ASSUMED * spread * SHARES[1:])
    amount = np.concatenate([[1e6], np.abs(design).sum(axis=0) + ASSUMED])
    falling = made_to_fall(np.concatenate([[0.0], solution]), amount)
    share = np.maximum(falling - falling[0], LEAST_SEEN)
    return Sight(share, True, _sight_error(ratio, moved @ share, still))


#: position up to which a result is on the first page for everyone; least number of queries there to estimate the coverage of the source;
#: searches from which a query shows its visibility, enough to be shown several times even if one in ten looks
FIRST_PLACE, FIRST_QUERIES, LEAST_SEARCHES = 7.0, 30, 100.0


def _seen_of_searches(pairs: pd.DataFrame) -> tuple[Floats, Floats, float] | None:
    """Rows x PLACES and the logarithm of impressions / searches relative to that of the first page, of the page shown most for each query with
    known searches; and the spread on the first page. None where fewer than FIRST_QUERIES of the first page are known.
    """
    if "demand" not in pairs:
        return None
    known = (pairs["demand"] >= LEAST_SEARCHES) & (pairs["impressions"] > 0) & pairs["position"].notna() & ~pairs["query"].eq("")
    rows = pairs.loc[known, ["query", "impressions", "demand", "position"]]
    rows = rows.sort_values("impressions", ascending=False, kind="stable").drop_duplicates("query")
    share = np.log(rows["impressions"].to_numpy(float) / rows["demand"].to_numpy(float))
    first = rows["position"].to_numpy(float) <= FIRST_PLACE
    if first.sum() < FIRST_QUERIES:
        return None
    share = share - np.median(share[first])
    return _weights(rows["position"].to_numpy(float)), share, max(float(np.median(np.abs(share[first])) * 1.48), 0.2)


def _sight_error(ratio: Floats, moved: Floats, still: NDArray[np.bool_]) -> float:
    """Relative error of a change of the logarithm of sight: the excess variation of rows that moved over those that stayed."""
    far = np.abs(moved) >= 0.3
    if far.sum() < 20 or still.sum() < 20:
        return Sight.error
    usual = np.median(ratio[still] ** 2) / MIDDLE_SQUARE
    more = np.median((ratio - moved)[far] ** 2) / MIDDLE_SQUARE - usual
    return float(np.clip(np.sqrt(max(more, 0.0) / np.median(moved[far] ** 2)), 0.1, 1.0))


def _weights(position: Floats) -> Floats:
    """Rows x PLACES: the weight of each place at a position, linear in log position."""
    place = np.log(np.maximum(position, 1.0))
    right = np.clip(np.searchsorted(PLACES, place), 1, len(PLACES) - 1)
    part = np.clip((place - PLACES[right - 1]) / (PLACES[right] - PLACES[right - 1]), 0, 1)
    table = np.zeros((len(place), len(PLACES)))
    row = np.arange(len(place))
    table[row, right - 1], table[row, right] = 1 - part, part
    return table


def searched(demand: pd.DataFrame, windows: Windows) -> pd.DataFrame:
    """Searches by query in the recent and the reference window: query, demand, demand_reference.

    Args:
        demand: query, month (any day of it), volume (searches in the month), one row per query and month.
    Returns:
        A month counts by its days inside the window; null where a month of the window is missing for the query.
    """
    rows = demand.dropna(subset=["query", "month", "volume"]).copy()
    rows["query"] = as_typed(rows["query"])
    rows["month"] = pd.to_datetime(rows["month"]).dt.to_period("M")
    table = rows.groupby(["query", "month"])["volume"].max().unstack().astype("float64")
    result = pd.DataFrame(index=table.index)
    for name, window in (("demand", windows.recent), ("demand_reference", windows.reference)):
        days = pd.Series(1.0, index=pd.period_range(window.start, window.end, freq="D").asfreq("M")).groupby(level=0).sum()
        share = days / pd.PeriodIndex(days.index).days_in_month
        result[name] = (table.reindex(columns=share.index) * share).sum(axis=1, skipna=False)
    return result.reset_index()


#: impressions in both windows from which a query at the same position tests a demand source, and largest difference of its log positions
TELLS, SAME_PLACE = 30, 0.1
#: visible share from which a page counts among all pages of a query: further down, a few impressions stand for many searches
NEAR_SHARE = 0.3
#: default error of a demand source (of the logarithm of growth), least error, and weight of the site in a section, in queries
SOURCE_ERROR, LEAST_ERROR, SOURCE_QUERIES = 0.15, 0.03, 10.0


def query_growth(pairs: pd.DataFrame, sight: Sight) -> Floats:
    """The factor by which searches for the query of each row grew from the reference to the recent window; NaN where unknown.

    Args:
        pairs: query, impressions, position, and both with `_reference`; `demand` and `demand_reference` (searches of the
            query from a demand source), `section` (of the page), `came` (whether the page appeared or disappeared) and `lived` (see
            `core.access`) where known.
    Returns:
        One factor a row, from two estimates: impressions of the page that leads for the query / the visible share at its position, and
            searches. Pages of a site replace each other in results, and appear beside each other: where the impressions of all pages of the
            query together changed otherwise than those of the leading one, beyond counting noise, the smaller change is that of demand. Each is
            weighted by the inverse of its squared error. The error of impressions is counting noise and the error of
            sight, so it is small at an unchanged position; that of a source is its error for queries at unchanged positions, per section.
    """
    number = numbered(pairs)[0].copy()
    unnamed = pairs["query"].eq("").to_numpy()  # rows of pages without named queries: each is a query of its own
    number[unnamed] = number.max(initial=0) + 1 + np.arange(unnamed.sum())
    queries = int(number.max(initial=-1)) + 1
    kept = _there(pairs)
    looked, share, shown, together, counted = [], [], [], [], []
    leader = np.zeros(queries, dtype=np.int64)
    for suffix in ("_reference", ""):
        position, every = pairs[f"position{suffix}"].to_numpy(float), pairs[f"impressions{suffix}"].to_numpy(float)
        part, seen = sight.share(position), every * kept
        near = (np.nan_to_num(position, nan=1.0) <= 10.5) & (seen > 0)
        order = np.lexsort([seen / part, near, number])  # pages on the first page of results lead
        leader[number[order]] = order
        looked.append((seen / part)[leader])
        share.append(np.log(part[leader]))
        shown.append(seen[leader])
        visible = np.where(part >= NEAR_SHARE, every, 0.0)  # of pages that came, too: they may have replaced it
        together.append(np.bincount(number, visible / part, queries))
        counted.append(np.bincount(number, visible, queries))
    known = np.minimum(*shown) > 0
    with np.errstate(divide="ignore", invalid="ignore"):
        seen_growth = np.where(known, np.log(looked[1] / looked[0]), np.nan)
        moved = np.abs(share[1] - share[0])
        error = 1 / shown[0] + 1 / shown[1] + (sight.error * moved) ** 2
        of_all = np.log(together[1] / together[0])
        apart = np.abs(of_all - seen_growth) > 2 * np.sqrt(error + 1 / counted[0] + 1 / counted[1])
    seen_growth = np.where(known & apart & (np.abs(of_all) < np.abs(seen_growth)), of_all, seen_growth)
    growth = seen_growth
    if "demand" in pairs:
        volumes = [pairs[name].to_numpy(float)[leader] for name in ("demand_reference", "demand")]
        given = (volumes[0] > 0) & (volumes[1] > 0)
        told_growth = np.where(given, np.log(np.where(given, volumes[1], 1.0) / np.where(given, volumes[0], 1.0)), np.nan)
        section = pd.factorize(pairs["section"])[0][leader] if "section" in pairs else np.zeros(queries, dtype=np.int64)
        source = _source_error(seen_growth - told_growth, known & given & (moved <= SAME_PLACE) & (np.minimum(*shown) >= TELLS), section)
        both = known & given
        weight = np.where(both, source / (source + np.where(both, error, 1.0)), 1.0)
        growth = np.where(
            both, weight * seen_growth + (1 - weight) * np.where(both, told_growth, 0.0), np.where(given, told_growth, seen_growth)
        )
    factor: Floats = np.exp(growth)[number]
    return factor


def _there(pairs: pd.DataFrame) -> NDArray[np.bool_]:
    """Rows of pages that existed throughout both windows: only their impressions measure searches."""
    there = np.ones(len(pairs), dtype=bool)
    if "came" in pairs:
        there &= ~pairs["came"].to_numpy(bool)
    if "lived" in pairs:
        there &= pairs["lived"].eq(1.0).to_numpy()
    return there


def _source_error(missed: Floats, tells: NDArray[np.bool_], section: NDArray[np.int64]) -> Floats:
    """Per query, the squared error of the demand source in its section: the median of its errors, shrunk to that of the site."""
    square = pd.Series(np.where(tells, missed, np.nan) ** 2)
    site = float(square.median()) / MIDDLE_SQUARE if tells.sum() >= SOURCE_QUERIES else SOURCE_ERROR**2
    of_section = square.groupby(section).agg(["median", "count"])
    variance = (of_section["median"].fillna(0) / MIDDLE_SQUARE * of_section["count"] + site * SOURCE_QUERIES) / (
        of_section["count"] + SOURCE_QUERIES
    )
    error: Floats = np.maximum(variance.reindex(section).to_numpy(), LEAST_ERROR**2)
    return error


#: share of the reference window from which the first days of a page tell its usual clicks
MOSTLY_LIVED = 0.5
#: expected clicks of queries known in both windows that have the same weight as the section in the demand of a page
OWN_CLICKS = 10.0


def split_pairs(pairs: pd.DataFrame, sight: Sight) -> pd.DataFrame:
    """The change of the expected clicks of each row, split into demand, rank, access and untold.

    Args:
        pairs: as in `query_growth`, with page, expected_clicks and expected_clicks_reference (scaled to equal length, like all reference
            columns).
    Returns:
        demand, rank, access, untold in the order of the rows: they add up to expected_clicks - expected_clicks_reference. Expected clicks =
        demand x (visible share x CTR there), by the logarithmic mean Divisia index (Ang 2004, Energy Policy 32:1131). Where
        the page was shown in only one window but the query is known in both, the mean of both orders (Shapley), which is exact at
        zero. A query without any impressions in one window may have lost its searchers or its position: the demand of the other queries of
        its page, and of its section, is taken first, and the rest is rank; untold where there are none. For a page that appeared or
        disappeared (`came`), what demand does not explain is access; for one that existed during part of the reference window (`lived`),
        also what it would have had in the rest of it, but where it lived for less than MOSTLY_LIVED of it only as far as it rose: the first
        days of a page are often its best. Where the event of a page is over (`event`, where known), queries without impressions
        have no more demand.
    """
    e1, had = pairs["expected_clicks"].to_numpy(float), pairs["expected_clicks_reference"].to_numpy(float)
    lived = pairs["lived"].to_numpy(float) if "lived" in pairs else np.ones(len(pairs))
    e0 = had / lived  # as if the page had existed throughout
    e0 = np.where(lived < MOSTLY_LIVED, np.minimum(e0, np.maximum(had, e1)), e0)
    growth = query_growth(pairs, sight)
    both, known = (e1 > 1e-9) & (e0 > 1e-9), np.isfinite(growth)
    came = pairs["came"].to_numpy(bool) if "came" in pairs else np.zeros(len(pairs), dtype=bool)
    around = _growth_around(pairs, growth, e1, e0)
    guessed = np.isfinite(around)
    with np.errstate(divide="ignore", invalid="ignore"):
        by_demand = np.where(both & known, log_mean(e1, e0) * np.log(np.where(known, growth, 1.0)), 0.0)
        alone = (e1 * (1 - 1 / growth) + e0 * (growth - 1)) / 2  # the page has impressions in one window only
        first = np.where((e1 > e0) & ~came, e1 * (1 - 1 / around), e0 * (around - 1))  # demand first, the rest is rank
    by_demand = np.where(~both & known, alone, by_demand)
    unseen = ~known | came
    # demand explains at most the whole of a fall, and nothing in the opposite direction
    by_demand = np.where(unseen & guessed, np.sign(e1 - e0) * np.clip(np.sign(e1 - e0) * first, 0.0, np.abs(e1 - e0)), by_demand)
    by_demand = np.where(came & ((e0 <= 1e-9) | ~guessed), 0.0, by_demand)
    untold = np.where(unseen & ~guessed & ~came, e1 - e0, 0.0)
    rest = e1 - e0 - untold - by_demand
    access = np.where(came, rest, 0.0) + e0 - had
    return pd.DataFrame({"demand": by_demand, "rank": np.where(came, 0.0, rest), "access": access, "untold": untold}, index=pairs.index)


def _growth_around(pairs: pd.DataFrame, growth: Floats, e1: Floats, e0: Floats) -> Floats:
    """Per row, the growth of demand for queries of its page that are known in both windows, shrunk to its section where they are few; NaN
    without any.
    """
    known = np.isfinite(growth) & _there(pairs) & (e0 > 0)
    page = pairs["page"].to_numpy() if "page" in pairs else np.zeros(len(pairs), dtype=np.int64)
    section = pairs["section"] if "section" in pairs else pd.Series(0, index=pairs.index)
    rows = pd.DataFrame({"page": pd.factorize(page)[0], "section": pd.factorize(section)[0]})
    rows["e0"] = np.where(known, e0, 0.0)
    rows["grown"] = rows["e0"] * np.where(known, growth, 0.0)
    whole = rows["grown"].sum() / rows["e0"].sum() if rows["e0"].sum() > 0 else np.nan
    of_section = rows.groupby("section")[["grown", "e0"]].transform("sum")
    near = (of_section["grown"] + OWN_CLICKS * whole) / (of_section["e0"] + OWN_CLICKS)
    of_page = rows.groupby("page")[["grown", "e0"]].transform("sum")
    around: Floats = ((of_page["grown"] + OWN_CLICKS * near) / (of_page["e0"] + OWN_CLICKS)).to_numpy(float)
    return np.where(pairs["event"], 0.0, around) if "event" in pairs else around


ROWS = ["demand", "rank", "access", "untold", "e1", "e0"]


def row_parts(pairs: pd.DataFrame, sight: Sight, *, alike: bool = True, placed: bool = True) -> pd.DataFrame:
    """The columns ROWS of every pair: its parts, and its expected clicks of the recent (e1) and the reference window (e0).

    alike: whether impressions of both windows are counted alike (see `core.recount`). Otherwise only clicks are comparable: they take the
    place of expected clicks, and what no source assigns to demand is untold. placed: whether positions say where rows are found (see
    `core.curve.places_tell`). Otherwise rank and pull are untold, and demand is that of impressions.
    """
    if alike and placed:
        return split_pairs(pairs, sight).assign(e1=pairs["expected_clicks"], e0=pairs["expected_clicks_reference"])[ROWS]
    clicks = {f"expected_clicks{suffix}": pairs[f"clicks{suffix}"].astype("float64") for suffix in ("", "_reference")}
    unlike = dict.fromkeys(("position", "position_reference"), np.nan) if alike else {"impressions_reference": 0.0}
    result = row_parts(pairs.assign(**clicks, **unlike), sight)
    return result.assign(untold=result["untold"] + result["rank"], rank=0.0)


def split(parts: pd.DataFrame, key: Any, totals: pd.DataFrame, *, by: str = "page") -> pd.DataFrame:
    """The change of each page, split into demand, rank, pull, access and untold, which add up to it exactly.

    Args:
        parts: `row_parts` of the pairs; key: of each of them, the page, section, query, ... to which it counts.
        totals: `by`, clicks_recent, clicks_reference (scaled): one row per key; `came` where known: whether the whole key appeared or
            disappeared;
            its change of pull is then access too; `taken_over` where known: clicks of the reference window (scaled) that old addresses of a
            page had and lost, whose pairs are among its own (`core.access.counted_with_successors`): access, too.
    Returns:
        One row per row of `totals`: `by` and PARTS. Clicks = expected clicks x pull, by the logarithmic mean Divisia index, additive
        LMDI-I. A key with clicks in one window only has no change of pull.
    """
    sums = parts.groupby(np.asarray(key)).sum().reindex(totals[by]).fillna(0.0)
    had, was = totals["clicks_recent"].to_numpy(float), totals["clicks_reference"].to_numpy(float)
    taken = totals["taken_over"].to_numpy(float) if "taken_over" in totals else np.zeros(len(totals))
    was = was + taken
    c1, c0, e1, e0 = had + 0.5, was + 0.5, sums["e1"].to_numpy(), sums["e0"].to_numpy()
    from_expected = log_mean(c1, c0) * np.log((e1 + 0.5) / (e0 + 0.5))
    alone = ((had <= 0) & (e1 <= 1e-9)) | ((was <= 0) & (e0 <= 1e-9))
    moved = e1 - e0
    still = np.abs(moved) < 1e-9
    from_expected = np.where(alone & ~still, c1 - c0, from_expected)
    # demand and rank may cancel: what remains of them is converted to clicks, each by clicks per unit of expectation
    rate = np.where(still, log_mean(c1, c0) / np.maximum(log_mean(e1 + 0.5, e0 + 0.5), 1e-9), from_expected / np.where(still, 1.0, moved))
    result = {name: sums[name].to_numpy() * rate for name in ("demand", "access", "untold")}
    result["rank"] = from_expected - result["demand"] - result["access"] - result["untold"]
    result["pull"] = (c1 - c0) - from_expected
    result |= {name: np.where(np.abs(result[name]) < 1e-9, 0.0, result[name]) for name in ("rank", "pull")}  # what rounding leaves
    if "came" in totals:
        came = totals["came"].to_numpy(bool)
        result["access"] = np.where(came, result["access"] + result["pull"] + result["rank"] + result["untold"], result["access"])
        result |= {name: np.where(came, 0.0, result[name]) for name in ("pull", "rank", "untold")}
    result["access"] = result["access"] + taken
    return pd.DataFrame({by: totals[by].to_numpy(), **{name: result[name] for name in PARTS}})


def with_usual_rate(pairs: pd.DataFrame) -> tuple[pd.DataFrame, pd.Series]:
    """Pairs in which rows without position have the mean expected rate of all such rows, and which rows these are."""
    placeless: pd.Series = (pairs["placed"] == 0) & (pairs["placed_reference"] == 0)
    if not placeless.any():
        return pairs, placeless
    counts = {name: pairs.loc[placeless, [name, f"{name}_reference"]].to_numpy(float).sum() for name in ("clicks", "impressions")}
    rate = counts["clicks"] / max(counts["impressions"], 1.0)
    expected = {
        f"expected_clicks{suffix}": pairs[f"expected_clicks{suffix}"].mask(placeless, pairs[f"impressions{suffix}"] * rate)
        for suffix in ("", "_reference")
    }
    return pairs.assign(**expected), placeless


#: reference counts of pairs that are scaled to the length of the recent window
COUNTED = ("impressions_reference", "expected_clicks_reference", "clicks_reference", "demand_reference")


def scaled_pairs(pairs: pd.DataFrame, scale: float) -> pd.DataFrame:
    """Pairs with reference counts scaled to the length of the recent window."""
    return pairs.assign(**{name: pairs[name] * scale for name in COUNTED if name in pairs})


def log_mean(a: Floats, b: Floats) -> Floats:
    """(a - b) / (ln a - ln b), and a where both are equal."""
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        gap = np.log(a / b)
        return np.where(np.abs(gap) < 1e-9, a, (a - b) / np.where(np.abs(gap) < 1e-9, 1.0, gap))


def split_ratio(recent: pd.DataFrame, reference: pd.DataFrame, factors: list[str]) -> pd.DataFrame:
    """A change split along a funnel, such as clicks -> sessions -> engaged sessions -> conversions.

    Args:
        recent, reference: one row per key, the same keys; `factors`: names of counts, from the first of the funnel to the last.
    Returns:
        One column per factor: the part of the change of the last count due to the first count itself, and to the ratio of each later one to
            the one before; they add up to the change of the last (additive LMDI-I; half a count is added throughout, so that zeros have a
            logarithm).
    """
    now = [recent[name].to_numpy(float) + 0.5 for name in factors]
    then = [reference[name].to_numpy(float) + 0.5 for name in factors]
    weight = log_mean(now[-1], then[-1])
    steps = [np.log(now[0] / then[0])]
    steps += [np.log(now[i] / now[i - 1]) - np.log(then[i] / then[i - 1]) for i in range(1, len(factors))]
    return pd.DataFrame({name: weight * step for name, step in zip(factors, steps, strict=True)}, index=recent.index)
