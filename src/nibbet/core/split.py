"""Why clicks changed: each change divided exactly into demand, rank and pull."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core.bins import made_to_fall
from nibbet.core.windows import Windows
from nibbet.core.words import as_typed, numbered

Floats = NDArray[np.float64]

#: assumed share of searches in which a result at a position is shown at all, relative to the first page; (position, share). Positions are
#: averages over days that swing by a fifth and more, so the edge of the first page is smeared over those near it
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
#: impressions in both windows from which a pair may teach how far searchers look, and how many clicks' worth the assumption counts
TEACHES, ASSUMED = 30, 25.0
#: least share: below it a demand would be made of next to nothing
LEAST_SEEN = float(np.log(0.01))


@dataclass(frozen=True)
class Sight:
    """How far searchers look: the logarithm of the share that is shown a result, at each of PLACES; `learnt` from this site or assumed."""

    log_share: Floats
    learnt: bool

    def share(self, position: Floats) -> Floats:
        """Share of searches in which a result at this position is shown, relative to the first page; 1 where the position is not known."""
        place = np.log(np.maximum(np.nan_to_num(np.asarray(position, dtype=np.float64), nan=1.0), 1.0))
        share: Floats = np.exp(np.interp(place, PLACES, self.log_share))
        return share


ASSUMPTION = Sight(SHARES, False)


def learn_sight(pairs: pd.DataFrame) -> Sight:
    """How far this site's searchers look, from pairs that moved between two windows.

    Args:
        pairs: impressions, impressions_reference, position, position_reference of one (page, query) a row.
    Returns:
        The share at each of PLACES. Impressions change with demand and with what the new position lets be seen; over many pairs the
        demand changes of those that moved and of those that stayed are alike, so a weighted least-squares fit of the log ratio on the
        two positions gives the shares, made to fall (isotonic), and drawn to SEEN where few pairs moved.
    """
    shown = np.minimum(pairs["impressions"].to_numpy(float), pairs["impressions_reference"].to_numpy(float))
    usable = (shown >= TEACHES) & pairs["position"].notna().to_numpy() & pairs["position_reference"].notna().to_numpy()
    if usable.sum() < 50:
        return ASSUMPTION
    rows = pairs[usable]
    now, then = (_weights(rows[name].to_numpy(float)) for name in ("position", "position_reference"))
    ratio = np.log(rows["impressions"].to_numpy(float) / rows["impressions_reference"].to_numpy(float))
    moved = now - then
    still = np.abs(moved).sum(axis=1) < 0.05
    ratio = ratio - np.median(ratio[still] if still.sum() >= 20 else ratio)
    # beyond what pairs that stayed put do, a ratio tells more of demand than of sight: such rows count less
    spread = max(float(np.median(np.abs(ratio[still])) * 1.48) if still.sum() >= 20 else 0.3, 0.1)
    solution = SHARES[1:].copy()
    for _ in range(5):
        rest = ratio - moved[:, 1:] @ solution
        weight = np.minimum(1.0, 1.5 * spread / np.maximum(np.abs(rest), 1e-9))  # Huber
        design = moved[:, 1:] * weight[:, None]
        normal = design.T @ moved[:, 1:] + np.eye(len(solution)) * ASSUMED * spread
        solution = np.linalg.solve(normal, design.T @ ratio + ASSUMED * spread * SHARES[1:])
    amount = np.concatenate([[1e6], (np.abs(moved[:, 1:]) * 1.0).sum(axis=0) + ASSUMED])
    falling = made_to_fall(np.concatenate([[0.0], solution]), amount)
    return Sight(np.maximum(falling - falling[0], LEAST_SEEN), True)


def _weights(position: Floats) -> Floats:
    """Rows x PLACES: how much each place counts at a position, linear in log position."""
    place = np.log(np.maximum(position, 1.0))
    right = np.clip(np.searchsorted(PLACES, place), 1, len(PLACES) - 1)
    part = np.clip((place - PLACES[right - 1]) / (PLACES[right] - PLACES[right - 1]), 0, 1)
    table = np.zeros((len(place), len(PLACES)))
    row = np.arange(len(place))
    table[row, right - 1], table[row, right] = 1 - part, part
    return table


def searched(demand: pd.DataFrame, windows: Windows) -> pd.DataFrame:
    """How often queries were searched in the recent and the reference window: query, demand, demand_reference.

    Args:
        demand: query, month (any day of it), volume (searches in the month), one row per query and month.
    Returns:
        A month counts by its days inside the window; null where a month of the window is missing for the query.
    """
    rows = demand.dropna(subset=["query", "month", "volume"]).copy()
    rows["query"] = as_typed(rows["query"])
    rows["month"] = pd.to_datetime(rows["month"]).dt.to_period("M")
    table = rows.groupby(["query", "month"])["volume"].max().unstack().astype("float64")
    found = pd.DataFrame(index=table.index)
    for name, window in (("demand", windows.recent), ("demand_reference", windows.reference)):
        days = pd.Series(1.0, index=pd.period_range(window.start, window.end, freq="D").asfreq("M")).groupby(level=0).sum()
        share = days / pd.PeriodIndex(days.index).days_in_month
        found[name] = (table.reindex(columns=share.index) * share).sum(axis=1, skipna=False)
    return found.reset_index()


def query_demand(pairs: pd.DataFrame, sight: Sight) -> tuple[Floats, Floats]:
    """How often each row's query was searched in the recent and in the reference window, up to a factor; NaN where it was not seen.

    Args:
        pairs: query, impressions, position, and both with `_reference`; where `demand` and `demand_reference` are given (searches of the
            query from a source of demand), those are taken where known in both windows.
    Returns:
        Two arrays in the order of the rows: the largest of its pages' impressions / share seen, pages of the first page of results first.
    """
    number = numbered(pairs)[0].copy()
    unnamed = pairs["query"].eq("").to_numpy()  # rows of pages whose queries are not known: each stands for its own
    number[unnamed] = number.max(initial=0) + 1 + np.arange(unnamed.sum())
    found = []
    for suffix in ("", "_reference"):
        position, shown = pairs[f"position{suffix}"].to_numpy(float), pairs[f"impressions{suffix}"].to_numpy(float)
        looked = shown / sight.share(position)
        near = np.nan_to_num(position, nan=1.0) <= 10.5
        best = np.zeros((2, number.max() + 1 if len(number) else 0))
        for row, part in enumerate((near, ~near)):
            np.maximum.at(best[row], number[part], looked[part])
        found.append(np.where(best[0] > 0, best[0], best[1])[number])
    now, then = (np.where(d > 0, d, np.nan) for d in found)
    if "demand" in pairs:
        told = [pairs[name].to_numpy(float) for name in ("demand", "demand_reference")]
        known = (told[0] > 0) & (told[1] > 0)
        now, then = np.where(known, told[0], now), np.where(known, told[1], then)
    return now, then


def split_pairs(pairs: pd.DataFrame, sight: Sight) -> pd.DataFrame:
    """The change of each row's expected clicks divided into demand and rank; what cannot be told apart stands in `unclear`.

    Args:
        pairs: as in `query_demand`, with expected_clicks and expected_clicks_reference (scaled to the same length, as all of them).
    Returns:
        demand, rank, unclear in the order of the rows: they add up to expected_clicks - expected_clicks_reference. Expected clicks =
        demand x (share of it that is shown x CTR there), by the logarithmic mean Divisia index (Ang 2004, Energy Policy 32:1131); where
        the page was shown in one window only but the query is known in both, by halves of both orders (Shapley), which stays exact at
        zero. A query not seen at all in one window may have lost its searchers or its place: that is unclear.
    """
    e1, e0 = pairs["expected_clicks"].to_numpy(float), pairs["expected_clicks_reference"].to_numpy(float)
    now, then = query_demand(pairs, sight)
    both, known = (e1 > 1e-9) & (e0 > 1e-9), np.isfinite(now) & np.isfinite(then)
    with np.errstate(divide="ignore", invalid="ignore"):
        growth = np.where(known, now / then, 1.0)
        by_demand = np.where(both & known, log_mean(e1, e0) * np.log(growth), 0.0)
        alone = (e1 * (1 - 1 / growth) + e0 * (growth - 1)) / 2  # the page shown in one window only
    lone = ~both & known
    by_demand = np.where(lone, alone, by_demand)
    unclear = np.where(known, 0.0, e1 - e0)
    return pd.DataFrame({"demand": by_demand, "rank": e1 - e0 - unclear - by_demand, "unclear": unclear}, index=pairs.index)


def split(pairs: pd.DataFrame, totals: pd.DataFrame, sight: Sight = ASSUMPTION, *, by: str = "page") -> pd.DataFrame:
    """Each page's change divided into demand, rank and pull, which add up to it exactly.

    Args:
        pairs: as in `split_pairs`, with the column `by`.
        totals: `by`, clicks_recent, clicks_reference (scaled): one row per page, or section, query, ...
    Returns:
        One row per row of `totals`: `by`, demand, rank, pull, unclear (clicks of the change, within demand and rank, of queries seen in one
        window only). Clicks = expected clicks x pull; both steps by the logarithmic mean Divisia index, additive LMDI-I. What is unclear
        is divided as the rest of its row is, or by halves where there is no rest.
    """
    parts = split_pairs(pairs, sight).assign(e1=pairs["expected_clicks"], e0=pairs["expected_clicks_reference"])
    sums = parts.groupby(pairs[by].to_numpy()).sum().reindex(totals[by]).fillna(0.0)
    c1, c0 = totals["clicks_recent"].to_numpy(float) + 0.5, totals["clicks_reference"].to_numpy(float) + 0.5
    e1, e0 = sums["e1"].to_numpy(), sums["e0"].to_numpy()
    from_expected = log_mean(c1, c0) * np.log((e1 + 0.5) / (e0 + 0.5))
    moved, d, r, u = e1 - e0, sums["demand"].to_numpy(), sums["rank"].to_numpy(), sums["unclear"].to_numpy()
    agree = np.abs(d) + np.abs(r)
    total = d + u * np.where(agree > 0, np.abs(d) / np.where(agree > 0, agree, 1.0), 0.5)
    still = np.abs(moved) < 1e-9
    # demand and rank may cancel: what is left of them is handed on in clicks, each in the measure of clicks a unit of expectation makes
    rate = np.where(still, log_mean(c1, c0) / np.maximum(log_mean(e1 + 0.5, e0 + 0.5), 1e-9), from_expected / np.where(still, 1.0, moved))
    by_demand = total * rate
    return pd.DataFrame(
        {
            by: totals[by].to_numpy(),
            "demand": by_demand,
            "rank": from_expected - by_demand,
            "pull": (c1 - c0) - from_expected,
            "unclear": np.abs(u * rate),
        }
    )


#: reference counts of pairs that are brought to the length of the recent window
COUNTED = ("impressions_reference", "expected_clicks_reference", "clicks_reference", "demand_reference")


def scaled_pairs(pairs: pd.DataFrame, scale: float) -> pd.DataFrame:
    """Pairs whose reference counts are brought to the length of the recent window."""
    return pairs.assign(**{name: pairs[name] * scale for name in COUNTED if name in pairs})


def log_mean(a: Floats, b: Floats) -> Floats:
    """(a - b) / (ln a - ln b), and a where both are equal."""
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        gap = np.log(a / b)
        return np.where(np.abs(gap) < 1e-9, a, (a - b) / np.where(np.abs(gap) < 1e-9, 1.0, gap))


def split_ratio(recent: pd.DataFrame, reference: pd.DataFrame, factors: list[str]) -> pd.DataFrame:
    """A change divided along a chain of counts, such as clicks -> sessions -> engaged sessions -> conversions.

    Args:
        recent, reference: one row per key, the same keys; `factors`: names of counts, from the first of the chain to the last.
    Returns:
        One column per factor: what the change of the last count owes to the first count itself, and to each later one's rate on the one
        before; they add up to the change of the last (additive LMDI-I; half a count is added throughout, so that zeros have a logarithm).
    """
    now = [recent[name].to_numpy(float) + 0.5 for name in factors]
    then = [reference[name].to_numpy(float) + 0.5 for name in factors]
    weight = log_mean(now[-1], then[-1])
    steps = [np.log(now[0] / then[0])]
    steps += [np.log(now[i] / now[i - 1]) - np.log(then[i] / then[i - 1]) for i in range(1, len(factors))]
    return pd.DataFrame({name: weight * step for name, step in zip(factors, steps, strict=True)}, index=recent.index)
