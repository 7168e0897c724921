"""Events on pages by name (scrolled, downloaded, signed up), compared with the peers of the page."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from nibbet.core.pull import false_discovery
from nibbet.core.ratios import usual_spread
from nibbet.core.wording import pages as wording

Floats = NDArray[np.float64]

EVENTS = (
    "page event count sessions rate rate_low rate_high usual q_value flag count_reference sessions_reference rate_reference because".split()
)
#: events expected from the peers from which a page is judged; pages from which their natural variation is estimated
LEAST_EXPECTED, ENOUGH = 3.0, 20
#: standard deviation of the log rate between pages: the default, and its limits
SPREAD, LEAST_SPREAD, MOST_SPREAD = 0.4, 0.05, 1.5
ROUNDS, NODES = 8, 40
#: false discovery rate, half of it on each side
FALSE = 0.05
#: standard deviations from its peers beyond which a page is left out of the usual rate
STRAYS = 3.0
#: added to a count for its interval (Jeffreys 1946)
OWN = 0.5
#: quantiles of the 80% interval of a rate
INTERVAL = (0.1, 0.9)


def event_rates(rows: pd.DataFrame, pages: pd.DataFrame) -> pd.DataFrame:
    """Each event on each page, per session, compared with pages of its kind: EVENTS with pages by number, the most frequent event first.

    Args:
        rows: page (number), event, count, count_reference of the recent and the reference window.
        pages: by number: group (section or kind), sessions, sessions_reference (of all channels; null where unknown).
    Returns:
        One row per page with sessions and event that any page of its group has (pages without it count 0), and one per page with events and
        no
        session, without a rate. rate: events per session, which may exceed 1. usual: that of the other pages of the group, from their sums.
        rate_low,
        rate_high: an 80% interval of the true rate of the page, from its own count (Jeffreys 1946, Proc. R. Soc. A 186:453). flag: low or
            high at 5% false discovery, by the tails of Poisson counts with lognormal rates.
    """
    rows = rows[rows["event"].notna()]
    table = _with_zeros(rows, pages)
    if table.empty:
        return pd.DataFrame(columns=EVENTS)
    cell = pd.factorize(table["event"] + "\n" + table["group"])[0]
    count, sessions = table["count"].to_numpy(float), table["sessions"].to_numpy(float)
    usual, z, tails = _usual(cell, count, sessions)
    low, high = map(false_discovery, tails)
    ends = [special.gammaincinv(count + OWN, share) / np.where(sessions > 0, sessions, np.nan) for share in INTERVAL]
    table = table.assign(
        rate=count / np.where(sessions > 0, sessions, np.nan),
        rate_low=ends[0],
        rate_high=ends[1],
        usual=usual,
        q_value=np.where(z < 0, low, high),
        flag=np.select([(z < 0) & (low <= FALSE / 2), (z > 0) & (high <= FALSE / 2)], ["low", "high"], ""),
        rate_reference=table["count_reference"] / table["sessions_reference"].where(table["sessions_reference"] > 0),
    )
    total = table.groupby("event")["count"].transform("sum")
    order = np.lexsort((table["page"].to_numpy(), -count, table["event"].to_numpy(dtype=object), -total.to_numpy(float)))
    return table.assign(because=wording.events(table)).iloc[order].reset_index(drop=True)[EVENTS]


def _with_zeros(rows: pd.DataFrame, pages: pd.DataFrame) -> pd.DataFrame:
    """The rows, plus one of zero for each page with sessions whose group has the event elsewhere."""
    known = pages[pages["sessions"].fillna(0) > 0]
    sums = rows.groupby(["page", "event"], as_index=False)[["count", "count_reference"]].sum()
    sums = sums[sums["count"] + sums["count_reference"] > 0].assign(group=lambda t: t["page"].map(pages["group"]))
    kinds = sums.loc[sums["page"].isin(known.index), ["event", "group"]].drop_duplicates()
    every = kinds.merge(known.rename_axis("page").reset_index(), on="group")
    table = every.merge(sums, on=["page", "event", "group"], how="outer").fillna({"count": 0.0, "count_reference": 0.0})
    table["sessions"] = table["sessions"].fillna(0.0)
    return table.sort_values(["event", "page"], ignore_index=True)


def _strays(count: Floats, expected: Floats, whole: Floats, alone: Floats, spread: float) -> tuple[Floats, Floats, Floats]:
    """Distance of each count from the expectation of its peers in standard deviations (0 where too little is expected), and the probabilities
    of at most and of at least that count (null there).

    Args:
        whole: events of the peers; alone: one over the number of peers, as if all had equal sessions.
    """
    expected = np.nan_to_num(expected)
    tested = (expected >= LEAST_EXPECTED) & (whole > 0)
    low, high = np.full(len(count), np.nan), np.full(len(count), np.nan)
    low[tested], high[tested] = _tails(count[tested], expected[tested], np.sqrt(spread**2 * (1 + alone[tested]) + 1 / whole[tested]))
    z = np.where(low < high, special.ndtri((low + 1 - high) / 2), -special.ndtri((high + 1 - low) / 2))
    return np.nan_to_num(z), low, high


def _tails(count: Floats, expected: Floats, spread: Floats) -> tuple[Floats, Floats]:
    """The probabilities of at most, and at least, so many events on a page like its peers: Poisson counts with lognormal rates, by
    quadrature.
    """
    nodes, weight = np.polynomial.hermite_e.hermegauss(NODES)
    low, high = np.zeros(len(count)), np.zeros(len(count))
    for node, part in zip(nodes, weight / weight.sum(), strict=True):
        mean = expected * np.exp(spread * node - spread**2 / 2)
        low += part * special.pdtr(count, mean)
        high += part * np.where(count > 0, special.pdtrc(np.maximum(count - 1, 0), mean), 1.0)
    return low, high


def _usual(cell: NDArray[np.int64], count: Floats, sessions: Floats) -> tuple[Floats, Floats, tuple[Floats, Floats]]:
    """The rate of the peers of each page, and its distance from it: see `_strays`.

    Outlying peers are left out round by round: one page made for an event would distort the rate of all others. The
    spread is estimated from the quartiles of pages with enough expected events.
    """
    among, spread = np.ones(len(cell), dtype=bool), SPREAD
    for _ in range(ROUNDS):
        whole, visits = (np.bincount(cell, values * among)[cell] - values * among for values in (count, sessions))
        usual = np.where((visits > 0) & (sessions > 0), (whole + 0.5) / np.maximum(visits + 1, 1), np.nan)
        squares = np.bincount(cell, sessions**2 * among)[cell] - sessions**2 * among
        alone = np.where(visits > 0, squares / np.maximum(visits, 1.0) ** 2, 1.0)
        z, low, high = _strays(count, sessions * usual, whole, alone, spread)
        tested = ~np.isnan(low)
        if tested.sum() >= ENOUGH:
            spread = float(np.clip(spread * usual_spread(z[tested]), LEAST_SPREAD, MOST_SPREAD))
        among = ~tested | (np.abs(z) <= STRAYS)
    return usual, z, (low, high)
