"""The columns of the tables that leave Nibbet, in their order."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.pull import THIN_CLICKS

PAGES = (
    "page section clicks impressions ctr position queries withheld_share pull sessions sessions_organic engaged_sessions engagement_rate seconds_per_session "
    "conversions revenue status indexable title words inlinks backlinks published modified in_search in_landings in_crawl clicks_long impressions_long "
    "sessions_long conversions_long revenue_long clicks_reference change change_share change_low change_high change_real verdict cause target gain gain_low "
    "gain_high worth confidence because also in_sitemap robots_blocked hits moved_from clicks_moved thin"
).split()
QUERIES = "query page role brand clicks impressions ctr position pull answer share_clicks share_impressions days topic thin".split()


def named_pages(measured: pd.DataFrame, verdicts: pd.DataFrame) -> pd.DataFrame:
    """The ledger with its verdicts, pages by their addresses: the columns PAGES."""
    table = measured.join(verdicts)
    table["target"] = table["target"].map(measured["page"])
    for name in ("verdict", "cause", "target", "because", "confidence", "also"):
        table[name] = table[name].astype("object").where(table[name].notna() & (table[name] != ""), None)
    return table[PAGES]


def named_queries(pairs: pd.DataFrame, pages: pd.DataFrame) -> pd.DataFrame:
    """The query map with addresses: the columns QUERIES, by page and impressions; per page one row more, without query, role and topic,
    for the clicks and impressions whose queries the source withholds.
    """
    shown = pairs[(pairs["impressions"] > 0) | (pairs["role"] == "owner")]
    named = shown.groupby("page")[["clicks", "impressions"]].sum().reindex(pages.index).fillna(0).astype("int64")
    rest = pages[["clicks", "impressions"]] - named
    rest = rest[(rest["impressions"] > 0) & (rest["clicks"] >= 0)].reset_index(names="page")
    table = pd.concat([shown, rest], ignore_index=True)
    table["ctr"] = table["clicks"] / table["impressions"].where(table["impressions"] > 0)
    table["thin"] = (table["expected_clicks"] < THIN_CLICKS).astype("boolean").mask(table["query"].isna())
    table["address"] = table["page"].map(pages["page"])
    table = table.sort_values(["address", "impressions", "query"], ascending=[True, False, True], ignore_index=True)
    table["page"] = table["address"]
    table["brand"] = table["brand"].astype("boolean")
    table["days"] = table["days"].astype("Int64")
    for name in ("query", "role", "topic"):
        table[name] = table[name].astype("object").where(table[name].notna(), None)
    return table[QUERIES].replace({np.nan: None}) if table.empty else table[QUERIES]
