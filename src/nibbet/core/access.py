"""Pages that appeared or disappeared between two windows: their change is due to access, not to demand, rank or pull."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.redirects import end_of
from nibbet.core.windows import Windows

#: the newest days of a blocked or failing page must be below this share of the expectation for that to be the cause
LOST = 0.5
#: impressions that a page must have missed, at its usual rate, for its first day in the data to be its first day of all
MISSED = 20
#: share of the gain of a new address that its old address must have lost, to count as a move
TAKEN = 0.5


def access_of(table: pd.DataFrame, windows: Windows) -> pd.DataFrame:
    """How pages appeared or disappeared between the windows.

    Args:
        table: the ledger with facts of smaller sources: clicks, base (reference clicks, scaled), clicks_last28, impressions,
            impressions_reference, impressions_long, born, first_seen (in search), gone, blocked, robots_blocked, redirects_to, status,
            index_state (null where the page is indexed or this is unknown), reference_known.
    Returns:
        One row per page. access: new, gone, moved, blocked, else ""; lived: the share of the reference window in which a page existed that
        does not count as new (1 where it existed throughout).

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
    kind = np.select(
        [fell & elsewhere, fell & table["gone"], fell & shut, moved_here, born],
        ["moved", "gone", "blocked", "moved", "new"],
        "",
    )
    access = pd.Series(kind, index=table.index, dtype="str").where(table["reference_known"].astype(bool), "")
    return pd.DataFrame({"access": access, "lived": lived.where((access == "") & (lived > 0) & table["reference_known"], 1.0)})
