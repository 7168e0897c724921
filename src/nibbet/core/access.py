"""Pages that came or went between two windows: what they gained or lost is no matter of demand, rank or pull."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.redirects import end_of
from nibbet.core.windows import Windows

#: why a page is there in one window only, as `why` says it
KINDS = ("new", "gone", "moved", "blocked")
#: share of what the reference lets expect below which the newest days of a page that is now out of reach must lie, for that to be the cause
LOST = 0.5
#: impressions that a page must have missed, at its usual rate, for its first day in the data to be its first at all
MISSED = 20
#: share of what a new address gained that its old one must have lost for it to be a move
TAKEN = 0.5


def access_of(table: pd.DataFrame, windows: Windows) -> pd.DataFrame:
    """How pages came or went between the windows.

    Args:
        table: the ledger with what smaller sources tell: clicks, base (reference clicks, scaled), clicks_last28, born, first_seen (in search), impressions_long, gone, blocked,
            robots_blocked, redirects_to, moved_from, status, index_state (null or left out: not told).
    Returns:
        access: new, gone, moved, blocked, else ""; lived: what share of the reference window a page was there that is not called new (1 where
        it was there throughout).

        new: it was born after the reference window began (or search first showed it then, though the data reach further back), and has more clicks than so many days let expect. gone, moved, blocked: it now answers with an error, leads
        elsewhere, or is kept out of search (noindex, robots.txt, out of the index), and its newest days (the last 28, else the recent
        window) have under LOST of the reference: what is out of reach today and earned until today lost nothing by that. A page is also
        moved where old addresses lead to it that lost at least TAKEN of what it gained.
    """
    recent, base = table["clicks"].fillna(0).astype(float), table["base"].fillna(0).astype(float)
    newest = table["clicks_last28"] * windows.recent.days / 28 if windows.is_daily else recent
    fell = (recent < base) & (np.fmin(newest, recent) < LOST * base)
    state = table["index_state"].notna() if "index_state" in table else pd.Series(False, index=table.index)
    shut = table["blocked"] | table["robots_blocked"].eq(True).fillna(False).astype(bool) | state
    elsewhere = table["gone"] & (table["redirects_to"].notna() | ~(table["status"] >= 400).fillna(False).astype(bool))
    first, began = pd.Timestamp(windows.first), pd.Timestamp(windows.reference.start)
    silent, lived = (table["first_seen"] - first).dt.days, (pd.Timestamp(windows.as_of) - table["first_seen"]).dt.days + 1
    missed = silent * table["impressions_long"].fillna(0).astype(float) / lived.clip(lower=1, upper=windows.long.days)
    late = (table["born"] > began) | ((table["first_seen"] > began) & (missed >= MISSED))
    since = table[["born", "first_seen"]].max(axis=1)
    end, days = pd.Timestamp(windows.reference.end), windows.reference.days
    lived = (((end - since).dt.days + 1).clip(lower=0, upper=days) / days).where(late, 1.0).fillna(1.0)
    rose, born = recent > base, late & (recent > base) & (recent * lived >= base)
    lost = (base - recent).where(table["gone"], 0.0).clip(lower=0.0)
    leads_to = end_of(table)[0].map(pd.Series(table.index, index=table["page"]))
    taken = lost.groupby(leads_to).sum().reindex(table.index).fillna(0.0)
    moved_here = rose & (taken >= TAKEN * (recent - base)) & (taken > 0)
    found = np.select(
        [fell & elsewhere, fell & table["gone"], fell & shut, moved_here, born],
        ["moved", "gone", "blocked", "moved", "new"],
        "",
    )
    access = pd.Series(found, index=table.index, dtype="str").where(table["reference_known"].astype(bool), "")
    return pd.DataFrame({"access": access, "lived": lived.where((access == "") & (lived > 0) & table["reference_known"], 1.0)})
