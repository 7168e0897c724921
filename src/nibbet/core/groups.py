"""Merge groups: pages that answer the same queries with the same intent, where one page would do better."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from scipy import sparse
from scipy.sparse import csgraph

from nibbet.core.curve import Curve
from nibbet.core.windows import MONTH_DAYS

#: queries on more pages than this propose no pair of pages (they count in the overlap of pairs that others propose), or the pairs explode
MOST_PAGES = 200
#: shared queries, none of them so common, from which on two pages are looked at
PROPOSING = 2


@dataclass(frozen=True)
class Likeness:
    """When two pages are one: shared impressions, shared queries, and days on which the leading page changes."""

    overlap: float = 0.55
    shared_queries: int = 3
    turn_taking: float = 0.12
    answers: float = 0.5


def candidate_pairs(pairs: pd.DataFrame, like: Likeness) -> pd.DataFrame:
    """Pairs of pages whose queries overlap by impressions, both answering them.

    Args:
        pairs: page, query, impressions, answer, brand; one row per pair with impressions.
    Returns:
        page_a < page_b, shared (queries), shared_impressions, overlap: the share of the smaller page's impressions that fall on queries
        the other draws too. Brand queries are left out: they say nothing of intent.
    """
    own = pairs[~pairs["brand"] & (pairs["impressions"] > 0) & (pairs["answer"] >= like.answers)]
    if own.empty:
        return pd.DataFrame(columns=["page_a", "page_b", "shared", "shared_impressions", "overlap"])
    pages, queries = pd.factorize(own["page"], sort=True), pd.factorize(own["query"], sort=True)
    shape = (len(pages[1]), len(queries[1]))
    shown = sparse.csr_matrix((own["impressions"].to_numpy(float), (pages[0], queries[0])), shape=shape)
    drawn = (shown > 0).astype(float)
    whole = np.asarray(shown.sum(axis=1)).ravel()
    proposing = drawn[:, np.asarray(drawn.sum(axis=0)).ravel() <= MOST_PAGES]
    both = sparse.triu(proposing @ proposing.T, k=1).tocoo()
    joined = pd.DataFrame({"a": both.row, "b": both.col})[both.data >= min(PROPOSING, like.shared_queries)]
    one, other = joined["a"].to_numpy(), joined["b"].to_numpy()

    def rows_sum(left: sparse.csr_matrix, right: sparse.csr_matrix) -> np.ndarray:
        return np.asarray(left[one].multiply(right[other]).sum(axis=1)).ravel()

    joined["on_shared"], joined["on_shared_b"] = rows_sum(shown, drawn), rows_sum(drawn, shown)
    joined["contained"], joined["contained_b"] = joined["on_shared"] / whole[one], joined["on_shared_b"] / whole[other]
    joined["shared"] = rows_sum(drawn, drawn).astype(int)
    joined["overlap"] = joined[["contained", "contained_b"]].max(axis=1)
    joined["mutual"] = joined[["contained", "contained_b"]].min(axis=1)
    joined["shared_impressions"] = (joined["on_shared"] + joined["on_shared_b"]).astype(np.int64)
    joined = joined[
        (joined["shared"] >= like.shared_queries) & (joined["overlap"] >= like.overlap) & (joined["mutual"] >= like.overlap / 2)
    ]
    out: pd.DataFrame = joined.assign(page_a=pages[1].to_numpy()[joined["a"]], page_b=pages[1].to_numpy()[joined["b"]])
    return out[["page_a", "page_b", "shared", "shared_impressions", "overlap"]].sort_values(["page_a", "page_b"], ignore_index=True)


def turn_taking(days: pd.DataFrame, candidates: pd.DataFrame) -> pd.Series:
    """For each candidate pair, the share of days on which another page leads their queries than the day before, 0..1.

    Args:
        days: one row per (query, date, page): position of the best-placed row, impressions.
        candidates: page_a, page_b.
    """
    numbered = candidates.reset_index(names="pair")
    member = pd.concat([numbered[["pair", f"page_{side}"]].rename(columns={f"page_{side}": "page"}) for side in "ab"])
    rows = member.merge(days, on="page")
    shared = rows.groupby(["pair", "query"])["page"].transform("nunique") > 1
    rows = rows[shared].sort_values(
        ["pair", "query", "date", "position", "impressions", "page"], ascending=[True, True, True, True, False, True]
    )
    lead = rows.drop_duplicates(["pair", "query", "date"])
    before = lead.groupby(["pair", "query"])["page"].shift()
    turned = (lead["page"] != before)[before.notna()]
    return turned.groupby(lead["pair"][before.notna()]).mean().reindex(numbered["pair"]).fillna(0.0).set_axis(candidates.index)


def merge_groups(candidates: pd.DataFrame, pages: pd.DataFrame, like: Likeness) -> pd.DataFrame:
    """The groups: one row per member, group number, survivor.

    Args:
        candidates: page_a, page_b, overlap, shared_impressions, turn_taking.
        pages: page, clicks_long, conversions_long, backlinks, protected, address; members are never protected pages other than the survivor.
    Returns:
        group, page, survivor (truth value), shared_impressions, overlap, turn_taking of the member with its survivor (the survivor's own
        row shows the group's largest). A page joins a group only if it is itself alike to the survivor: likeness is not passed on.
    """
    empty = pd.DataFrame(columns=["group", "page", "survivor", "shared_impressions", "overlap", "turn_taking"])
    alike = candidates[candidates["turn_taking"] >= like.turn_taking]
    if alike.empty:
        return empty
    members = np.unique(alike[["page_a", "page_b"]].to_numpy())
    a, b = np.searchsorted(members, alike["page_a"]), np.searchsorted(members, alike["page_b"])
    graph = sparse.coo_matrix((np.ones(len(alike)), (a, b)), shape=(len(members), len(members)))
    label = csgraph.connected_components(graph, directed=False)[1]
    table = pd.DataFrame({"page": members, "group": label}).merge(pages, on="page", how="left", validate="1:1")
    table["worth"] = table["clicks_long"] + 25 * table["conversions_long"] + 10 * table["backlinks"]
    table = table.assign(length=table["address"].str.len()).sort_values(
        ["group", "protected", "worth", "length", "address"], ascending=[True, False, False, True, True]
    )
    survivor = table.drop_duplicates("group").set_index("group")["page"]
    links = pd.concat([alike, alike.rename(columns={"page_a": "page_b", "page_b": "page_a"})]).rename(
        columns={"page_a": "page", "page_b": "of"}
    )
    table["of"] = table["group"].map(survivor)
    joined = table.merge(links[["page", "of", "shared_impressions", "overlap", "turn_taking"]], on=["page", "of"], how="left")
    joined["survivor"] = joined["page"] == joined["of"]
    joined = joined[joined["survivor"] | (joined["overlap"].notna() & ~joined["protected"])]
    size = joined.groupby("group")["page"].transform("size")
    joined = joined[size > 1]
    for name in ("shared_impressions", "overlap", "turn_taking"):
        joined[name] = joined[name].fillna(joined.groupby("group")[name].transform("max"))
    joined["group"] = pd.factorize(joined["group"])[0] + 1
    return joined.sort_values(["group", "survivor", "page"], ascending=[True, False, True], ignore_index=True)[
        ["group", "page", "survivor", "shared_impressions", "overlap", "turn_taking"]
    ]


def merge_gain(groups: pd.DataFrame, pairs: pd.DataFrame, curve: Curve, days: int) -> pd.DataFrame:
    """Net extra clicks a month per group if its pages were one: group, gain, gain_low, gain_high (80%).

    The one page is taken to be shown once per search (the largest member's impressions stand for those of the others on the same query)
    at the best place a member holds, and at best two thirds of that: engines divide their trust between look-alikes.
    """
    rows = pairs.merge(groups[["group", "page"]], on="page")
    rows = rows[rows["impressions"] > 0]
    query = rows.groupby(["group", "query"]).agg(
        shown=("impressions", "sum"), best=("position", "min"), clicks=("clicks", "sum"), brand=("brand", "first")
    )
    now = curve.rate(query["best"].to_numpy(float))
    pull = query["clicks"].groupby("group").sum() / (query["shown"] * now).groupby("group").sum().clip(lower=1.0)
    gains = {}
    for name, place in (("gain_low", 0.9), ("gain", 0.7), ("gain_high", 0.5)):
        rate = curve.rate(np.maximum(query["best"].to_numpy(float) * place, 1.0))
        ideal = (query["shown"] * rate).groupby("group").sum() * pull.clip(0.5, 1.2)
        gains[name] = (ideal - query["clicks"].groupby("group").sum()).clip(lower=0.0) * MONTH_DAYS / days
    return pd.DataFrame(gains).reset_index()
