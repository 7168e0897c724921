"""What pages were shown for without a named query, as rows beside their queries."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.curve import Curve

#: share of the impressions of a page in either window below which they are differences of rounding between its rows and those of its queries
LEAST_UNNAMED = 0.02
#: positions between which what a page was shown for without a query can lie
FIRST, LAST = 1.0, 100.0
SUMS = ("clicks", "impressions", "position_sum", "placed")


def with_unnamed(pairs: pd.DataFrame, totals: pd.DataFrame, curve: Curve) -> pd.DataFrame:
    """The pairs with a further row, of the empty query, for each page that was shown without a named query in either window: its totals
    less those of its queries, with the clicks to expect at their mean position. Otherwise the change of a page whose queries are withheld
    would be told by the queries that happen to be named, or, without any, be a change of pull.

    Args:
        pairs: page (number), query (categorical), brand, the SUMS, expected_clicks and position of both windows (those of the reference
            end with _reference), by page; totals: by page number, the SUMS of both windows (SUM_recent, SUM_reference).
    """
    number = pairs["page"].to_numpy()
    size = int(max(totals.index.max(), number.max(initial=0))) + 1
    rows, kept = {"page": np.arange(size)}, np.zeros(size, dtype=bool)
    for suffix, label in (("", "recent"), ("_reference", "reference")):
        rest = {}
        for name in SUMS:
            whole = totals[f"{name}_{label}"].reindex(rows["page"]).fillna(0.0).to_numpy(np.float64)
            rest[name] = np.maximum(whole - np.bincount(number, pairs[f"{name}{suffix}"].to_numpy(np.float64), size), 0.0)
            if name == "impressions":
                kept |= rest[name] > LEAST_UNNAMED * whole
        with np.errstate(divide="ignore", invalid="ignore"):
            place = np.clip(np.where(rest["placed"] > 0, rest["position_sum"] / rest["placed"], np.nan), FIRST, LAST)
        rest["expected_clicks"] = np.where(np.isnan(place), 0.0, rest["impressions"] * curve.rate(np.nan_to_num(place, nan=FIRST)))
        rows |= {f"{name}{suffix}": values for name, values in (rest | {"position": place}).items()}
    if not kept.any():
        return pairs
    texts = pairs["query"].cat.categories
    names = texts if "" in texts else texts.append(pd.Index([""], dtype=texts.dtype))
    more = pd.DataFrame(rows)[kept].assign(query=pd.Categorical([""] * int(kept.sum()), categories=names))
    more = more.reindex(columns=pairs.columns).assign(brand=False)
    both = pd.concat([pairs.assign(query=pairs["query"].cat.set_categories(names)), more], ignore_index=True)
    both = both.fillna({name: 0 for name in pairs if pairs[name].dtype.kind in "iu"}).astype(
        {name: pairs[name].dtype for name in pairs if name != "query"}
    )
    return both.sort_values("page", kind="stable", ignore_index=True)
