"""Queries and topics that are new, rise or fade, beyond noise and season."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.change import change
from nibbet.core.compare import Terms

RISING = (
    "level key kind by recent reference change change_low change_high impressions impressions_reference impressions_change shown_low shown_high position page"
).split()


def rising(changes: pd.DataFrame, places: pd.DataFrame, terms: Terms) -> pd.DataFrame:
    """New, rising and fading keys.

    Args:
        changes: rows of one level (query or topic) from `core.compare.compared`, with impressions of both windows (scaled); places:
            index key; position and page (number) of the page with most impressions.
    Returns:
        The rows that changed beyond noise and season, in clicks or, where both windows count them alike, in impressions: RISING. kind: new (no impressions in the earlier
            window), rising or fading; by: clicks where these show it, else impressions; shown_low and shown_high: the 95% interval of the
            change of impressions. New ones come first, then rising, then fading ones, the largest change of impressions first.
    """
    clicks, shown = changes["change"].to_numpy(float), changes["impressions"].to_numpy(float)
    before = changes["impressions_reference"].to_numpy(float)
    with np.errstate(divide="ignore", invalid="ignore"):
        season = np.where(changes["reference"] > 0, 1 + changes["season"] / changes["reference"], 1.0).astype(np.float64)
    searched = change(shown, before, scale=1.0, beyond=terms.beyond, season=np.maximum(season, 0.05))
    by_clicks, by_shown = changes["real"].to_numpy(bool), searched["change_real"].to_numpy(bool) & terms.counted_alike
    up = np.where(by_clicks, clicks > 0, shown > before)
    new = by_shown & (before == 0) & (changes["reference"].to_numpy(float) == 0)
    kind = np.select([new, (by_clicks | by_shown) & up, by_clicks | by_shown], ["new", "rising", "fading"], "")
    table = changes.assign(
        kind=kind,
        by=np.where(by_clicks, "clicks", "impressions"),
        shown_low=searched["change_low"].to_numpy(),
        shown_high=searched["change_high"].to_numpy(),
    ).join(places, on="key")
    table = table[table["kind"] != ""].assign(
        nth=lambda t: t["kind"].map({"new": 0, "rising": 1, "fading": 2}), size=lambda t: -t["impressions_change"].abs()
    )
    return table.sort_values(["nth", "size", "key"], kind="stable", ignore_index=True)[RISING].astype({"kind": "str", "by": "str"})
