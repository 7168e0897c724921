"""Merge groups: pages that answer the same queries with the same intent, where one page would do better."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core.curve import Curve
from nibbet.core.entries import connected
from nibbet.core.pull import shrunk_pull
from nibbet.core.split import Sight
from nibbet.core.standing import Standing, with_withheld
from nibbet.core.tables import near_rows, rows_at
from nibbet.core.thresholds import Thresholds
from nibbet.core.windows import MONTH_DAYS
from nibbet.core.wording import merges as wording
from nibbet.core.words import numbered

#: queries on more pages than this propose no pair of pages, to limit the number of pairs; they still count in the overlap of pairs that
#: others propose
MOST_PAGES = 200
#: most common queries of the pages processed at once, a limit on memory
MEETINGS_AT_ONCE = 20_000_000
#: shared queries, none of them too common, from which two pages are compared
PROPOSING = 2


#: position of a merged page relative to the best of its members, and the spread of its logarithm
MERGED, MERGED_SPREAD = 0.6, 0.3
#: how far a page must answer what another gets clicks for to replace it where the other does not answer it
STANDS_IN = 0.8
#: share of the clicks from queries that only leaving pages have which a merge loses: at the low end, and in the middle
ALONE_LOST = (0.5, 0.2)


#: comparisons of a member of a group with its survivor
LIKE = ["shared_impressions", "overlap", "turn_taking", "one_search", "survivor_answers", "own_question", "same_heading"]
APART = ["page", "other", "shared", "shared_impressions", "overlap", "turn_taking", "because"]


#: weights of a conversion and a backlink, in clicks, in the choice of the survivor: about one visit in 25 converts, and no redirect passes
#: on the whole value of a link
CONVERSION_CLICKS, BACKLINK_CLICKS = 25, 10


def are_one(candidates: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Which candidates are similar enough to be one page: they take turns, and all evidence says that they serve one search. Without daily
    rows, both must draw nearly all impressions of either, at similar positions. Pages with the same title and heading need not take turns.
    """
    turns = (candidates["turn_taking"] >= t.turn_taking) & ~(candidates["contested"] < t.turn_taking)
    undated = candidates["turn_taking"].isna()
    if undated.any():
        mutual = (candidates["mutual"] >= t.overlap_undated) & (candidates["place_gap"] <= t.place_gap)
        turns = turns | (undated & mutual)
    twins = are_twins(candidates, t)
    turns = turns | twins
    one = twins | ~(candidates["one_search"] < np.where(undated, t.one_search / 2, t.one_search))
    answered = stands_in(candidates, "a", t) | stands_in(candidates, "b", t)
    titled = ~(candidates["above"] & (candidates["title_likeness"] < t.alike_above))
    intent = ~(candidates["intent"] < t.same_intent) & ~(candidates["own_question"] >= t.own_question)
    return (candidates["shared"] >= t.shared_queries) & turns & one & answered & titled & intent & ~candidates["of_two_regions"]


def are_twins(candidates: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Which candidates are one page at two addresses, by their headings and by the queries of both."""
    return candidates["same_heading"] & (candidates["mutual"] >= t.overlap)


def stands_in(candidates: pd.DataFrame, side: str, t: Thresholds) -> pd.Series:
    """Whether that page of each pair, a or b, can replace the other: each answers what the other gets clicks for, or this one answers nearly
    all of it.
    """
    return ~(candidates["each_answers"] < least_answer(candidates, t)) | (candidates[f"answers_{side}"] >= STANDS_IN)


def least_answer(candidates: pd.DataFrame, t: Thresholds) -> NDArray[np.float64]:
    """How far either page of each pair must answer what the other gets clicks for: more where one is the parent of the other."""
    return np.where(candidates["above"], np.maximum(t.each_answers, t.alike_above), t.each_answers)


def lies_above(pages: pd.DataFrame, candidates: pd.DataFrame, parent: pd.Series | None) -> pd.Series:
    """For each candidate pair, whether one page is an ancestor of the other, by complete path segments or by breadcrumbs.

    Args:
        pages: page (address) by page number; candidates: page_a, page_b; parent: by page number, the address of the parent by breadcrumbs,
            or None.
    """
    whole = pages["page"].str.rstrip("/") + "/"
    one, other = (whole.reindex(candidates[f"page_{side}"]).to_numpy() for side in "ab")
    inside = [a.startswith(b) or b.startswith(a) for a, b in zip(one, other, strict=True)]  # pairs that share queries are few
    result = pd.Series(inside, index=candidates.index, dtype=bool)
    if parent is None:
        return result
    for lower, upper in (("page_a", "page_b"), ("page_b", "page_a")):
        result |= candidates[lower].map(parent).eq(candidates[upper].map(pages["page"])).fillna(False).astype(bool)
    return result


def candidate_pairs(pairs: pd.DataFrame, t: Thresholds, live: NDArray[np.bool_] | None = None) -> pd.DataFrame:
    """Pairs of pages whose queries overlap by impressions, both answering them.

    Args:
        pairs: page (number), query, impressions, position, answer, brand; one row per pair with impressions.
        live: of each page, whether it can be found; defaults to all.
    Returns:
        page_a < page_b, shared (queries), shared_impressions, overlap: the share of the impressions of the smaller page from queries
        that the other has too; mutual: the smaller of that share of either. Shares are of impressions up to SECOND_PAGE, unless a page has
        none there: chance decides which of two pages is listed far down. Brand queries are left out, since they carry no intent. Pairs that
        share PROPOSING queries are included: too few to merge, but worth reporting.
    """
    chosen = ~pairs["brand"] & (pairs["impressions"] > 0) & (pairs["answer"] >= t.answers)
    chosen_rows = rows_at(pairs, chosen if live is None else chosen & live[pairs["page"]], ["page", "query", "impressions", "position"])
    if chosen_rows.empty:
        return pd.DataFrame(columns=["page_a", "page_b", "shared", "shared_impressions", "overlap", "mutual"])
    page, (query, queries) = chosen_rows["page"].to_numpy(), numbered(chosen_rows)
    shape, near = (int(page.max()) + 1, len(queries)), near_rows(chosen_rows["position"].to_numpy(float), page)
    shown = sparse.csr_matrix((chosen_rows["impressions"].to_numpy(float), (page, query)), shape=shape)
    drawn = (shown > 0).astype(np.float32)
    seen = sparse.csr_matrix((chosen_rows["impressions"].to_numpy(float) * near, (page, query)), shape=shape)
    on_pages = np.bincount(query)
    proposing = drawn[:, (on_pages > 1) & (on_pages <= MOST_PAGES)]
    meetings = np.cumsum(proposing @ np.asarray(proposing.sum(axis=0)).ravel())
    bounds = np.searchsorted(meetings, np.arange(0, meetings[-1], MEETINGS_AT_ONCE), side="left")
    ends = np.unique([*bounds, proposing.shape[0]])
    parts = [
        _alike(proposing, shown, seen, drawn, slice(start, end), t)
        for start, end in zip(np.append(0, ends[:-1]), ends, strict=True)
        if end > start
    ]
    out = pd.concat(parts, ignore_index=True)
    return out.sort_values(["page_a", "page_b"], ignore_index=True)


def _alike(
    proposing: sparse.csr_matrix, shown: sparse.csr_matrix, seen: sparse.csr_matrix, drawn: sparse.csr_matrix, at: slice, t: Thresholds
) -> pd.DataFrame:
    """Candidates whose first page is among the rows `at`: see `candidate_pairs`."""
    whole = np.asarray(seen.sum(axis=1)).ravel()
    both = (proposing[at] @ proposing.T).tocoo()
    one, other = both.row.astype(np.int64) + at.start, both.col.astype(np.int64)
    meet = (other > one) & (both.data >= min(PROPOSING, t.shared_queries))
    one, other = one[meet], other[meet]

    def rows_sum(left: sparse.csr_matrix, right: sparse.csr_matrix) -> NDArray[np.float64]:
        return np.asarray(left[one].multiply(right[other]).sum(axis=1)).ravel()

    joined = pd.DataFrame({"a": one, "b": other})
    joined["contained"], joined["contained_b"] = rows_sum(seen, drawn) / whole[one], rows_sum(drawn, seen) / whole[other]
    joined["shared"] = rows_sum(drawn, drawn).astype(int)
    joined["overlap"] = joined[["contained", "contained_b"]].max(axis=1)
    joined["mutual"] = joined[["contained", "contained_b"]].min(axis=1)
    joined["shared_impressions"] = (rows_sum(shown, drawn) + rows_sum(drawn, shown)).astype(np.int64)
    joined = joined[
        (joined["shared"] >= min(PROPOSING, t.shared_queries)) & (joined["overlap"] >= t.overlap) & (joined["mutual"] >= t.overlap / 2)
    ]
    out: pd.DataFrame = joined.rename(columns={"a": "page_a", "b": "page_b"})
    return out[["page_a", "page_b", "shared", "shared_impressions", "overlap", "mutual"]]


def place_gap(pairs: pd.DataFrame, candidates: pd.DataFrame) -> pd.Series:
    """For each candidate pair, the mean difference of the log positions of its pages on shared queries, weighted by impressions; null without
    positions.

    Args:
        pairs: page, query, position, impressions, brand; candidates: page_a, page_b.
    """
    members = np.unique(candidates[["page_a", "page_b"]].to_numpy())
    chosen = ~pairs["brand"] & (pairs["impressions"] > 0) & pairs["page"].isin(members) & pairs["position"].notna()
    rows = rows_at(pairs, chosen, ["page", "query", "position", "impressions"])
    rows = pd.DataFrame(
        {"page": rows["page"], "query": numbered(rows)[0], "place": np.log(rows["position"].clip(lower=1.0)), "shown": rows["impressions"]}
    )
    one, other = (
        pd.DataFrame({"pair": candidates.index, "page": candidates[f"page_{side}"].to_numpy()}).merge(rows, on="page") for side in "ab"
    )
    both = one.merge(other, on=["pair", "query"])
    weight = both["shown_x"] + both["shown_y"]
    sums = pd.DataFrame({"gap": weight * (both["place_x"] - both["place_y"]).abs(), "weight": weight}).groupby(both["pair"]).sum()
    return (sums["gap"] / sums["weight"]).reindex(candidates.index)


def shared_intent(pairs: pd.DataFrame, candidates: pd.DataFrame) -> pd.Series:
    """For each candidate pair, how far both pages have the same topics: the smaller share of the clicks of each, topic by topic, added up,
    0 to 1.

    Args:
        pairs: page, topic, chosen (actual and expected clicks) of the queries with known results; candidates: page_a, page_b. Null where a
            page has none.
    """
    sums = pairs.groupby(["page", "topic"], observed=True)["chosen"].sum()
    share = (sums / sums.groupby(level="page").transform("sum")).rename("share").reset_index()
    numbered_pairs = candidates.reset_index(names="pair")
    one, other = (numbered_pairs.merge(share, left_on=f"page_{side}", right_on="page")[["pair", "topic", "share"]] for side in "ab")
    both = one.merge(other, on=["pair", "topic"])
    least = both[["share_x", "share_y"]].min(axis=1).groupby(both["pair"]).sum()
    known = np.intersect1d(one["pair"], other["pair"])
    return least.reindex(known, fill_value=0.0).reindex(numbered_pairs["pair"]).set_axis(candidates.index)


def shown_once(days: pd.DataFrame, groups: pd.DataFrame) -> pd.Series:
    """By group, the share of its impressions that remains if pages shown for the same query on the same day count once.

    Args:
        days: as in `turn_taking`; groups: group, page.
    """
    rows = days.merge(groups[["group", "page"]], on="page").groupby(["group", "query", "date"])["impressions"].agg(["max", "sum"])
    sums = rows.groupby("group").sum()
    return (sums["max"] / sums["sum"].where(sums["sum"] > 0)).fillna(1.0)


def merge_groups(candidates: pd.DataFrame, pages: pd.DataFrame, t: Thresholds) -> pd.DataFrame:
    """The groups: one row per member, group number, survivor.

    Args:
        candidates: page_a, page_b, shared, overlap, shared_impressions, turn_taking, one_search, each_answers, answers_a, answers_b,
            title_likeness, own_question (see `core.likeness`), intent (null where results are unknown), above (whether one is an ancestor
            of the other), same_heading and of_two_regions (see `core.twins`).
        pages: page, clicks_long, conversions_long, backlinks, answer (0 to 1), protected, stays (protected, new, a hub, or with another
            purpose: never merged away), address.
    Returns:
        group, page, survivor (truth value), shared_impressions, overlap, turn_taking, one_search and own_question of the member with its
        survivor, survivor_answers (the row of the survivor has the largest of the group). A page joins a group only if it is similar to the
        survivor itself, which answers what the page gets
        clicks for: similarity is not transitive.
    """
    empty = pd.DataFrame(columns=["group", "page", "survivor", *LIKE])
    alike = candidates[are_one(candidates, t)]
    if alike.empty:
        return empty
    members = np.unique(alike[["page_a", "page_b"]].to_numpy())
    a, b = np.searchsorted(members, alike["page_a"]), np.searchsorted(members, alike["page_b"])
    table = pd.DataFrame({"page": members, "group": connected(a, b, len(members))}).merge(pages, on="page", how="left", validate="1:1")
    earned = table["clicks_long"] + CONVERSION_CLICKS * table["conversions_long"] + BACKLINK_CLICKS * table["backlinks"]
    table["worth"] = earned * (0.5 + 0.5 * table["answer"].fillna(0.5))
    ends = {"a": {"page_b": "page", "page_a": "of"}, "b": {"page_a": "page", "page_b": "of"}}
    links = pd.concat(
        [
            alike.assign(
                stands_in=stands_in(alike, side, t),
                survivor_answers=alike[f"answers_{side}"],
                same_heading=alike["same_heading"].astype("float64"),
            ).rename(columns=names)
            for side, names in ends.items()
        ]
    )
    table["unlike"] = table["page"].map((~links["stands_in"]).groupby(links["of"]).sum())
    table = table.assign(length=table["address"].str.len()).sort_values(
        ["group", "protected", "unlike", "worth", "length", "address"], ascending=[True, False, True, False, True, True]
    )
    survivor = table.drop_duplicates("group").set_index("group")["page"]
    table["of"] = table["group"].map(survivor)
    joined = table.merge(links[["page", "of", "stands_in", *LIKE]], on=["page", "of"], how="left")
    joined["survivor"] = joined["page"] == joined["of"]
    joined = joined[joined["survivor"] | (joined["stands_in"].eq(True) & ~joined["stays"])]
    size = joined.groupby("group")["page"].transform("size")
    joined = joined[size > 1]
    for name in LIKE:
        joined[name] = joined[name].fillna(joined.groupby("group")[name].transform("max"))
    joined["group"] = pd.factorize(joined["group"])[0] + 1
    return joined.sort_values(["group", "survivor", "page"], ascending=[True, False, True], ignore_index=True)[
        ["group", "page", "survivor", *LIKE]
    ]


def kept_apart(candidates: pd.DataFrame, groups: pd.DataFrame, pages: pd.DataFrame, t: Thresholds) -> pd.DataFrame:
    """Pairs of pages that draw the same queries but are not merged, with the reason: APART, by shared impressions.

    Args:
        candidates, pages: as in `merge_groups`; groups: its result, without those dropped since.
    """
    group = groups.set_index("page")["group"] if len(groups) else pd.Series(dtype="int64")
    one, other = candidates["page_a"].map(group), candidates["page_b"].map(group)
    rows = candidates[~(one.notna() & (one == other)).to_numpy()]
    stays = pages.set_index("page")["stays"]
    staying = rows["page_a"].map(stays).astype(bool) | rows["page_b"].map(stays).astype(bool)
    twins = are_twins(rows, t)
    together, undated = rows[["turn_taking", "contested"]].min(axis=1) < t.turn_taking, rows["turn_taking"].isna()
    because = np.select(
        [
            rows["shared"] < t.shared_queries,
            rows["of_two_regions"],
            together & ~twins,
            rows["intent"] < t.same_intent,
            (rows["one_search"] < np.where(undated, t.one_search / 2, t.one_search)) & ~twins,
            ~(stands_in(rows, "a", t) | stands_in(rows, "b", t)),
            rows["above"] & (rows["title_likeness"] < t.alike_above),
            rows["own_question"] >= t.own_question,
            undated & ~are_one(rows, t),
            staying,
        ],
        [
            wording.few_shared(rows, t),
            wording.REGIONS,
            wording.one_leads(rows, t),
            wording.of_two_intents(rows, t),
            wording.of_two_searches(rows, t),
            wording.not_answered(rows, pd.Series(least_answer(rows, t), index=rows.index)),
            wording.one_above(rows, t),
            wording.own_question(rows, t),
            wording.far_apart(rows, t) if undated.any() else pd.Series("", index=rows.index),
            wording.STAYS,
        ],
        wording.NO_GAIN,
    )
    out = rows.rename(columns={"page_a": "page", "page_b": "other"}).assign(because=because)
    return out.sort_values(["shared_impressions", "page", "other"], ascending=[False, True, True], ignore_index=True)[APART]


def merge_gain(
    groups: pd.DataFrame,
    pairs: pd.DataFrame,
    withheld: pd.Series,
    once: pd.Series,
    curve: Curve,
    sight: Sight,
    standing: Standing,
    days: int,
) -> pd.DataFrame:
    """Net extra clicks a month per group if its pages were one: group, gain, gain_low, gain_high (80%), clicks_alone, survivor_rest.

    Args:
        groups: group, page, survivor. pairs: page, query, impressions, clicks, expected_clicks, position of the recent window of `days`
            days.
        withheld: the share of the impressions of each page without a query; they are assumed to behave like the others.
        once: by group, the share of their impressions that remains if pages shown together count once.
    Returns:
        The merged page is shown for the shared queries whenever one of the members is, with their CTR. Engines divide their trust between
        duplicates; how much better one page ranks is the mean of two estimates, the position of the good pages of the site and MERGED times
        the best position of a member, and never worse than that. clicks_alone: clicks a month that leaving pages have from queries that
        only they have; the shares ALONE_LOST of them (low, middle) are assumed lost. survivor_rest: the share of the impressions of the
        survivor from other queries.
    """
    needed = ["page", "query", "impressions", "clicks", "expected_clicks", "position"]
    rows = rows_at(pairs, pairs["page"].isin(groups["page"]) & (pairs["impressions"] > 0), needed)
    rows = rows.assign(query=numbered(rows)[0]).merge(groups[["group", "page", "survivor"]], on="page")
    shared = rows.groupby(["group", "query"])["page"].transform("size") > 1
    month = MONTH_DAYS / days
    weight = with_withheld(rows["page"].map(withheld))
    rows = rows.assign(
        demand=sight.searches(rows["impressions"].to_numpy(float), rows["position"].to_numpy(float)) * weight,
        had=rows["clicks"] * weight,
        usual=rows["expected_clicks"] * weight,
    )
    query = rows[shared].groupby(["group", "query"]).agg(demand=("demand", "sum"), best=("position", "min"), clicks=("had", "sum"))
    of_group = rows[shared].groupby("group")[["had", "usual"]].sum()
    group_pull = pd.Series(shrunk_pull(of_group["had"].to_numpy(float), of_group["usual"].to_numpy(float)), index=of_group.index)
    group = query.index.get_level_values("group")
    factor = group_pull.fillna(1.0).clip(0.5, 1.3).reindex(group).to_numpy(float) * once.reindex(group).fillna(1.0).to_numpy(float)
    best = query["best"].to_numpy(float)
    spreads = {name: float(np.hypot(getattr(standing, name), MERGED_SPREAD) / 2) for name in ("spread", "spread_below")}
    merged = replace(standing, share_of_held=MERGED, **spreads)
    sums = merged.gains(query["demand"].to_numpy(float) * factor / standing.pull, query["clicks"].to_numpy(float), best, curve, days)
    table = pd.DataFrame(sums, index=query.index).groupby("group").sum().reindex(groups["group"].unique()).fillna(0.0)
    alone = rows[~shared & ~rows["survivor"]].groupby("group")["had"].sum().reindex(table.index).fillna(0.0) * month
    for name, lost in zip(("gain_low", "gain", "gain_high"), (*ALONE_LOST, 0.0), strict=True):
        table[name] -= lost * alone
    kept = (
        rows[rows["survivor"]]
        .assign(rest=lambda kept: kept["impressions"].where(~shared, 0))
        .groupby("group")[["impressions", "rest"]]
        .sum()
    )
    table["clicks_alone"], table["survivor_rest"] = alone, (kept["rest"] / kept["impressions"]).reindex(table.index).fillna(1.0)
    return table.rename_axis("group").reset_index()
