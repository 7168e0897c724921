"""Markets: languages and countries of queries, how visitors from there buy, and the value of a translation."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.pull import weighted_position
from nibbet.core.wording import topics as wording

MARKETS = (
    "country language queries impressions clicks ctr position sessions engagement_rate conversions conversions_per_session revenue "
    "gain gain_low gain_high worth because"
).split()
SUMMED = ["impressions", "clicks", "position_sum", "placed"]
GAINS = ["gain", "gain_low", "gain_high"]
#: weight of the conversion rate of the site, in sessions, so that a few sales in a country promise little
PRIOR_SESSIONS = 200.0
#: impressions of a language in a country from which it has a gain: fewer are strays
LEAST_SHOWN = 50


def market_table(queries: pd.DataFrame, countries: pd.DataFrame, value: float | None, per_visit: float) -> pd.DataFrame:
    """One row per country and language: MARKETS; languages that the site does not answer first, by worth.

    Args:
        queries: country ("" where unknown), query, language (ISO code), SUMMED, and GAINS (clicks a month if pages in that language had the
            positions of the good pages of the site): queries in another language than the site's that no page answers.
        countries: of each country SUMMED, sessions, engaged_sessions, conversions, revenue (null where unknown); indexed by country.
        value: value of a conversion; without it revenue counts; per_visit: value of a visit on the whole site, NaN where unknown.
    Returns:
        Rows with a language hold the queries in it; the row of a country without a language holds all others, and the visits. worth: value
        of the gain a month, by the value of visits from that country, shrunk to the whole site by PRIOR_SESSIONS sessions.
    """
    spoken = queries.groupby(["country", "language"])[[*SUMMED, *GAINS]].sum()
    spoken["queries"] = queries.groupby(["country", "language"]).size()
    spoken = spoken[spoken["impressions"] >= LEAST_SHOWN].reset_index()
    rest = countries.reset_index(names="country")
    taken = spoken.groupby("country")[SUMMED].sum().reindex(rest["country"]).fillna(0.0)
    for name in SUMMED:
        rest[name] = np.maximum(rest[name].fillna(0.0) - taken[name].to_numpy(), 0.0)
    table = pd.concat([spoken, rest], ignore_index=True)
    for name in ("language", "queries", *GAINS, "sessions", "engaged_sessions", "conversions", "revenue"):
        table[name] = table.get(name, np.nan)
    sessions = table["sessions"].where(table["sessions"] > 0)
    had = countries.reindex(columns=["sessions", "conversions", "revenue"]).fillna(0.0).astype(float)
    earned = had["revenue"] if value is None else had["conversions"] * value
    brings = (earned + PRIOR_SESSIONS * per_visit) / (had["sessions"] + PRIOR_SESSIONS)
    table = table.assign(
        ctr=table["clicks"] / table["impressions"].where(table["impressions"] > 0),
        position=weighted_position(table["position_sum"], table["placed"]),
        engagement_rate=table["engaged_sessions"] / sessions,
        conversions_per_session=table["conversions"] / sessions,
        worth=table["gain"] * table["country"].map(brings).fillna(per_visit),
    )
    table["because"] = wording.markets(table)
    order = table.assign(first=table["worth"].fillna(table["gain"]).fillna(-1.0)).sort_values(
        ["first", "impressions", "country"], ascending=[False, False, True], kind="stable"
    )
    return order.reset_index(drop=True)[MARKETS]
