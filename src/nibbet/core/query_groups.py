"""Groups of queries that share words: their totals and pull, and the queries that deviate from their group."""

from __future__ import annotations

import pandas as pd

from nibbet.core.pull import judged_pull, weighted_position
from nibbet.core.ratios import ratio_interval
from nibbet.core.tables import THIN_CLICKS

#: the row of all queries that belong to no group
REST = "all other queries"
SUMS = ["clicks", "impressions", "expected_clicks", "position_sum", "placed"]
QUERY_GROUPS = (
    "group queries pages clicks impressions ctr expected_clicks pull pull_low pull_high position brand_share shared_share site_share"
).split()
GROUP_QUERIES = "group query clicks impressions ctr position expected_clicks pull usual q_value flag".split()


def rates_of_groups(rows: pd.DataFrame, members: pd.DataFrame, groups: list[str], *, rest: bool = True) -> pd.DataFrame:
    """Totals and rates of groups of queries.

    Args:
        rows: the query map of the recent window: query, page (numbers; page -1 where unknown), brand, and the columns SUMS.
        members: group, query: one row per membership; a query may belong to several groups. groups: their names in order, including those
            without a member. rest: whether a last row sums the queries in no group.
    Returns:
        One row per group: QUERY_GROUPS. Sums count each query once per group; ctr and pull are ratios of sums, position is weighted by
        impressions. brand_share, shared_share: shares of its impressions from brand queries, and from queries of another group
        too; site_share: its share of all impressions with a query. pull_low and pull_high: the 95% interval of the ratio of sums over its
        pages (`core.ratios.ratio_interval`).
    """
    shown = rows[rows["impressions"] > 0]
    owned = members[["query"]].drop_duplicates()
    if rest:
        others = shown.loc[~shown["query"].isin(owned["query"]), ["query"]].drop_duplicates()
        members = pd.concat([members, others.assign(group=REST)], ignore_index=True)
        groups = [*groups, REST]
    several = members.groupby("query")["group"].transform("size") > 1
    joined = members.assign(several=several).merge(shown, on="query")
    joined = joined.assign(named=joined["impressions"].where(joined["brand"], 0), shared=joined["impressions"].where(joined["several"], 0))
    sums = joined.groupby("group")[[*SUMS, "named", "shared"]].sum()
    sums = sums.assign(
        queries=joined.groupby("group")["query"].nunique(), pages=joined[joined["page"] >= 0].groupby("group")["page"].nunique()
    )
    sums = sums.reindex(groups).fillna(0.0)
    known = sums["expected_clicks"] >= THIN_CLICKS
    of_pages = joined.groupby(["group", "page"])[["clicks", "expected_clicks"]].sum().set_axis(["counted", "expected"], axis=1)
    pull = ratio_interval(of_pages).reindex(groups).where(known)
    seen = sums["impressions"].where(sums["impressions"] > 0)
    table = sums.assign(
        ctr=sums["clicks"] / seen,
        pull=(sums["clicks"] / sums["expected_clicks"]).where(known),
        pull_low=pull["low"],
        pull_high=pull["high"],
        position=weighted_position(sums["position_sum"], sums["placed"]),
        brand_share=sums["named"] / seen,
        shared_share=sums["shared"] / seen,
        site_share=sums["impressions"] / max(float(shown["impressions"].sum()), 1.0),
    )
    whole = {name: "int64" for name in ("queries", "pages", "clicks", "impressions")}
    return table.rename_axis("group").reset_index()[QUERY_GROUPS].astype({**whole, "group": "str"})


def queries_of_groups(rows: pd.DataFrame, members: pd.DataFrame) -> pd.DataFrame:
    """The queries of each group, and which have a lower or higher pull than the group.

    Args:
        rows, members: as for `rates_of_groups`.
    Returns:
        One row per group and query with impressions: GROUP_QUERIES, by group and impressions. usual: the pull of its group; flag: low or
            high where the query deviates from it beyond chance (5% false discovery in each group), each at its own position.
    """
    sums = rows[rows["impressions"] > 0].groupby("query", as_index=False)[SUMS].sum()
    joined = members[["group", "query"]].merge(sums, on="query")
    whole = joined.groupby("group")[["clicks", "expected_clicks"]].transform("sum")
    usual = (whole["clicks"] + 0.5) / whole["expected_clicks"].where(whole["expected_clicks"] >= THIN_CLICKS)
    mean = (joined["expected_clicks"] * usual).fillna(0.0)
    parts = [
        judged_pull(joined["clicks"].loc[at].to_numpy(float), mean.loc[at].to_numpy(float)).set_index(at)
        for at in joined.groupby("group").groups.values()
    ]
    judged = pd.concat(parts).reindex(joined.index) if parts else pd.DataFrame({"q_value": [], "flag": []}, index=joined.index)
    joined = joined.assign(
        ctr=joined["clicks"] / joined["impressions"],
        position=weighted_position(joined["position_sum"], joined["placed"]),
        pull=joined["clicks"] / joined["expected_clicks"].where(joined["expected_clicks"] >= THIN_CLICKS),
        usual=usual,
        q_value=judged["q_value"],
        flag=judged["flag"],
    )
    order = joined.sort_values(["group", "impressions", "query"], ascending=[True, False, True], kind="stable", ignore_index=True)
    return order[GROUP_QUERIES].astype({"flag": "str", "group": "str"})
