"""Pages that appeared or disappeared between two windows: their change is due to access, not to demand, rank or pull."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core.pull import weighted_position
from nibbet.core.redirects import end_of
from nibbet.core.windows import Windows

#: the newest days of a blocked or failing page must be below this share of the expectation for that to be the cause
LOST = 0.5
#: impressions that a page must have missed, at its usual rate, for its first day in the data to be its first day of all
MISSED = 20
#: share of the gain of a new address that its old address must have lost, to count as a move
TAKEN = 0.5
#: share of the impressions of an old address, by query, for which the page it redirects to must be shown to have taken its place: a redirect
#: to another subject, such as the home page, brings nothing along
STILL_SHOWN = 0.5


def access_of(table: pd.DataFrame, windows: Windows) -> pd.DataFrame:
    """How pages appeared or disappeared between the windows.

    Args:
        table: the ledger with facts of smaller sources: clicks, base (reference clicks, scaled), clicks_last28, impressions,
            impressions_reference, impressions_long, born, first_seen (in search), gone, blocked, robots_blocked, redirects_to, status,
            index_state (null where the page is indexed or this is unknown), reference_known.
    Returns:
        One row per page. access: new, gone, moved, blocked, else ""; otherwise: the same for a page that moved if no page took the place of
        another (`successors_of`), redirected for an old address; lived: the share of the reference window in which a page existed that does not
        count as new (1 where it existed throughout).

        new: it has more clicks than its days predict, and was born after the reference window began, or search first showed it then
        although the data go back further; without days, where it has no impressions in the reference window. gone, moved, blocked: it now
        answers with an error, redirects, or is kept out of search (noindex, robots.txt, not indexed), and its newest days (the
        last 28, else the recent window) are below LOST of the reference: a page that earned until today has lost nothing. A page is also
        moved where old addresses redirect to it that lost at least TAKEN of its gain.
    """
    recent, base = table["clicks"].fillna(0).astype(float), table["base"].fillna(0).astype(float)
    newest = table["clicks_last28"] * windows.recent.days / 28 if windows.is_daily else recent
    fell = (recent < base) & (np.fmin(newest, recent) < LOST * base)
    shut = table["blocked"] | table["robots_blocked"].eq(True).fillna(False).astype(bool) | table["index_state"].notna()
    elsewhere = table["gone"] & (table["redirects_to"].notna() | ~(table["status"] >= 400).fillna(False).astype(bool))
    first, began = pd.Timestamp(windows.first), pd.Timestamp(windows.reference.start)
    silent, shown = (table["first_seen"] - first).dt.days, (pd.Timestamp(windows.as_of) - table["first_seen"]).dt.days + 1
    missed = silent * table["impressions_long"].fillna(0).astype(float) / shown.clip(lower=1, upper=windows.long.days)
    never = (table["impressions_reference"] == 0) & (table["impressions"] >= MISSED) & table["first_seen"].isna()  # there are no days
    late = (table["born"] > began) | ((table["first_seen"] > began) & (missed >= MISSED)) | never
    since = table[["born", "first_seen"]].max(axis=1)
    end, days = pd.Timestamp(windows.reference.end), windows.reference.days
    lived = (((end - since).dt.days + 1).clip(lower=0, upper=days) / days).where(late, 1.0).fillna(1.0).where(~never, 0.0)
    rose = recent > base
    born = late & rose & (recent * lived >= base)
    lost = (base - recent).where(table["gone"], 0.0).clip(lower=0.0)
    leads_to = end_of(table)[0].map(pd.Series(table.index, index=table["page"]))
    taken = lost.groupby(leads_to).sum().reindex(table.index).fillna(0.0)
    moved_here = rose & (taken >= TAKEN * (recent - base)) & (taken > 0)
    kinds = [fell & elsewhere & leads_to.notna(), fell & elsewhere, fell & table["gone"], fell & shut, born]
    known, names = table["reference_known"].astype(bool), ["redirected", "moved", "gone", "blocked", "new"]
    otherwise = pd.Series(np.select(kinds, names, ""), index=table.index, dtype="str").where(known, "")
    access = otherwise.mask(otherwise.eq("redirected") | (otherwise.isin(["", "new"]) & moved_here & known), "moved")
    whole = ~known | otherwise.ne("") | (lived <= 0)
    return pd.DataFrame({"access": access, "otherwise": otherwise, "lived": lived.where(~whole, 1.0)})


def successors_of(pages: pd.DataFrame, pairs: pd.DataFrame) -> NDArray[np.int64]:
    """The page that took the place of each address, so that a page that moved is compared with itself.

    Args:
        pages: page, redirects_to, access (`access_of`), dead (fails or is blocked); numbered from 0.
        pairs: page, query (empty where unknown), impressions, impressions_reference: one row per (page, query).
    Returns:
        The number of each page itself, except for an address that moved to a living page which is now shown for at least STILL_SHOWN of
        what the address was shown for: the number of that page. Where no query is known, the page must have gained that share of the
        impressions that its old addresses lost.
    """
    number = pd.Series(np.arange(len(pages)), index=pages["page"])
    end = end_of(pages)[0].map(number).astype("float64")
    end = end.where(pages["access"].eq("moved") & end.notna())
    fit = (~pages["dead"] & pages["access"].isin(["", "moved"])).to_numpy(bool)
    end = end[end.notna() & fit[end.fillna(0).to_numpy(np.int64)]].astype(np.int64)
    successor = np.arange(len(pages))
    if end.empty:
        return successor
    old = pairs.loc[pairs["page"].isin(end.index), ["page", "query", "impressions", "impressions_reference"]]
    old = old.assign(successor=end.reindex(old["page"]).to_numpy())
    shown = pairs.loc[pairs["page"].isin(end.unique()) & (pairs["impressions"] > 0), ["page", "query"]].drop_duplicates()
    named = old[old["query"] != ""].merge(
        shown.rename(columns={"page": "successor"}).assign(shown=True), on=["successor", "query"], how="left"
    )
    weight = named[["impressions", "impressions_reference"]].sum(axis=1).astype(float)
    kept = weight.where(named["shown"].notna(), 0.0).groupby(named["page"]).sum() / weight.groupby(named["page"]).sum()
    sums = pairs.groupby("page")[["impressions", "impressions_reference"]].sum()
    rise = (sums["impressions"] - sums["impressions_reference"]).astype(float)
    lost = -rise.reindex(end.index).fillna(0.0)
    whole = lost.groupby(end).transform("sum")
    share = pd.Series(rise.reindex(end).fillna(0.0).to_numpy(), index=end.index) / whole.where(whole > 0)
    taken = kept.reindex(end.index).fillna(share) >= STILL_SHOWN
    successor[end.index[taken]] = end[taken]
    return successor


def counted_with_successors(pairs: pd.DataFrame, successor: NDArray[np.int64]) -> pd.DataFrame:
    """Pairs in which the rows of an old address count to the page that took its place (`successors_of`), query by query.

    Args:
        pairs: page, query, brand, days, and sums and positions of both windows; demand of both where known.
    """
    page = pairs["page"].to_numpy()
    to = successor[page]
    touched = np.isin(to, to[to != page])
    if not touched.any():
        return pairs
    how = {name: "sum" for name in pairs if name not in ("page", "query", "position", "position_reference")}
    how |= {name: "max" for name in ("brand", "days", "demand", "demand_reference") if name in pairs}
    rows = pairs[touched].assign(page=to[touched]).groupby(["page", "query"], as_index=False, observed=True).agg(how)
    for suffix in ("", "_reference"):
        rows[f"position{suffix}"] = weighted_position(rows[f"position_sum{suffix}"], rows[f"placed{suffix}"])
    result = pd.concat([pairs[~touched], rows[pairs.columns]]).sort_values("page", kind="stable", ignore_index=True)
    return result.astype(pairs.dtypes)
