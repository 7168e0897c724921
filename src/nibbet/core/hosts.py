"""Visible hosts in the results, over all queries and by topic, from result snapshots."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core.join.address import hosts_of
from nibbet.core.strength import formats

Floats = NDArray[np.float64]

HOSTS = "level key host own queries query_share top3 rank share share_before own_share searches form url".split()
#: results of a snapshot that count, and hosts listed for each topic
FIRST, MOST_HOSTS = 10, 10


def seen_hosts(
    snapshots: pd.DataFrame, earlier: pd.DataFrame, topics: pd.Series, demand: pd.Series, rate: Floats, site_hosts: frozenset[str]
) -> pd.DataFrame:
    """Visible hosts: HOSTS, for all queries of the site (level all) and by topic, by share.

    Args:
        snapshots: query, rank, url, title of the newest snapshot of each query; earlier: the same of the previous snapshot, where there is
            one.
        topics: the topic of each query; demand: searches a month, by query; unknown ones count as the median of the known.
        rate: expected CTR of places 1, 2, ... (at least FIRST); site_hosts: the hosts of the site, without `www.`.
    Returns:
        query_share: share of the queries whose first FIRST results contain the host; rank: mean of its best place there; share: its part of
            the expected clicks of all these results, by the CTR curve of the site and demand; share_before: the same in the earlier
            snapshots, over queries that have both; own_share: that of the hosts of the site; form: the usual form of its titles; url: its
            most frequent address.
    """
    now = _placed(snapshots, demand, rate, site_hosts)
    if now.empty:
        return pd.DataFrame(columns=HOSTS)
    then = _placed(earlier, demand, rate, site_hosts)
    parts = [now.assign(level="all", key="all"), now.assign(level="topic", key=now["query"].map(topics)).dropna(subset=["key"])]
    rows = pd.concat(parts, ignore_index=True)
    old = pd.concat([then.assign(level="all", key="all"), then.assign(level="topic", key=then["query"].map(topics))], ignore_index=True).dropna(subset=["key"])  # fmt: skip
    keys = ["level", "key"]
    totals = rows.drop_duplicates([*keys, "query"]).groupby(keys).agg(topic_queries=("query", "size"), searches=("demand", "sum"))
    whole = rows.groupby(keys)["weight"].sum()
    both = rows[rows["query"].isin(old["query"])]
    table = _of_hosts(rows, keys).join(totals, on=keys)
    level = pd.MultiIndex.from_frame(table[keys])
    table["query_share"] = table["queries"] / table["topic_queries"]
    table["share"] = table["weight"] / whole.reindex(level).to_numpy()
    before = old[old["query"].isin(both["query"])]
    before = before.assign(part=before["weight"] / before.groupby(keys)["weight"].transform("sum"))
    sums = before.groupby([*keys, "host"])["part"].sum()
    known = pd.MultiIndex.from_frame(before[keys].drop_duplicates()) if len(before) else level[:0]
    table["share_before"] = sums.reindex(pd.MultiIndex.from_frame(table[[*keys, "host"]])).fillna(0.0).where(level.isin(known)).to_numpy()
    ours = table[table["own"]].groupby(keys)["share"].sum()
    table["own_share"] = ours.reindex(level).fillna(0.0).to_numpy()
    order = table.assign(first=table["level"].ne("all")).sort_values(
        ["first", "searches", "key", "share", "host"], ascending=[True, False, True, False, True], ignore_index=True
    )
    shown = order[(order.groupby(keys).cumcount() < MOST_HOSTS) | order["own"] | (order["level"] == "all")]
    return shown.reset_index(drop=True)[HOSTS]


def _placed(rows: pd.DataFrame, demand: pd.Series, rate: Floats, site_hosts: frozenset[str]) -> pd.DataFrame:
    """query, host, own, rank, url, title, demand, weight of the first results with an address; the best of each host and query."""
    rows = rows[rows["url"].notna() & (rows["rank"].fillna(1) <= FIRST)].copy()
    rows["host"] = hosts_of(rows["url"])
    rows = rows.dropna(subset=["host"])
    place = rows["rank"].fillna(1).clip(lower=1).astype(int)
    known, each = demand.reindex(rows["query"]), demand.reindex(rows["query"].unique()).dropna()
    usual = float(each.median()) if len(each) else 1.0
    wanted = known.fillna(usual).to_numpy(float)
    rows = rows.assign(rank=place, own=rows["host"].isin(site_hosts), demand=wanted, weight=wanted * rate[place.to_numpy() - 1])
    best = rows.sort_values(["query", "host", "rank", "url"]).drop_duplicates(["query", "host"])
    return best[["query", "host", "own", "rank", "url", "title", "demand", "weight"]].reset_index(drop=True)


def _of_hosts(rows: pd.DataFrame, keys: list[str]) -> pd.DataFrame:
    """One row per level, key and host: its sums, the form of its titles, its most frequent address."""
    by = [*keys, "host"]
    rows = rows.assign(top=rows["rank"] <= 3, form=formats(rows["title"]).to_numpy())
    sums = rows.groupby(by, as_index=False).agg(
        own=("own", "first"), queries=("query", "size"), top3=("top", "sum"), rank=("rank", "mean"), weight=("weight", "sum")
    )
    for name in ("form", "url"):
        counted = rows.dropna(subset=[name]).groupby([*by, name], as_index=False).agg(count=("query", "size"), weight=("weight", "sum"))
        counted = counted.sort_values([*by, "count", "weight", name], ascending=[True, True, True, False, False, True])
        sums = sums.merge(counted.drop_duplicates(by)[[*by, name]], on=by, how="left")
    return sums
