"""The columns of the output tables, in their order."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core.verdict import IDLE

PAGES = (
    "page section clicks impressions ctr position queries withheld_share pull sessions sessions_organic engaged_sessions engagement_rate seconds_per_session "
    "conversions revenue status indexable title words inlinks backlinks published modified in_search in_landings in_crawl clicks_long impressions_long "
    "sessions_long conversions_long revenue_long clicks_reference change change_share change_low change_high change_real verdict cause target gain gain_low "
    "gain_high worth confidence because also in_sitemap robots_blocked hits moved_from clicks_moved thin trend since purpose intended answered_share asked_in single_page_rate"
).split()
QUERIES = "query page role brand clicks impressions ctr position pull answer share_clicks share_impressions days topic thin expected_clicks junk".split()

#: the parts of a change of clicks
PARTS = ["demand", "rank", "pull", "access", "untold"]
#: marks a table whose rows were all removed by a condition
NARROWED = "narrowed"
#: with fewer expected clicks a rate is marked thin
THIN_CLICKS = 3.0
#: the end of the second page of results. Every page is listed further down for much that it is not about, and programs that count positions
#: look there as often as searchers
SECOND_PAGE = 20.0


def near_rows(position: NDArray[np.float64], key: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which rows are not beyond SECOND_PAGE, and all rows of keys that have none there; key: a number of each row, from 0."""
    near = ~(position > SECOND_PAGE)
    known = np.zeros(int(key.max(initial=-1)) + 1, dtype=bool)
    known[key[near]] = True
    rows: NDArray[np.bool_] = near | ~known[key]
    return rows


def rows_of(frame: pd.DataFrame) -> Iterator[Any]:
    """The rows as named tuples of the columns."""
    return iter(frame.itertuples())


def to_act_on(table: pd.DataFrame) -> pd.DataFrame:
    """The rows whose verdict asks for work."""
    return table[table["verdict"].notna() & ~table["verdict"].isin(IDLE)]


def act_first(pages: pd.DataFrame) -> pd.DataFrame:
    """The ledger with the pages to act on first, by gain; then the others by clicks."""
    idle = ~pages.index.isin(to_act_on(pages).index)
    keys = pages.assign(idle=idle, first=pages["gain"].fillna(0)).sort_values(
        ["idle", "first", "clicks", "page"], ascending=[True, False, False, True]
    )
    return pages.loc[keys.index].reset_index(drop=True)


def named_pages(measured: pd.DataFrame, verdicts: pd.DataFrame) -> pd.DataFrame:
    """The ledger with its verdicts, pages by their addresses: the columns PAGES."""
    table = measured.join(verdicts)
    table["target"] = table["target"].map(measured["page"])
    for name in ("verdict", "cause", "target", "because", "confidence", "also", "trend"):
        table[name] = table[name].astype("str").where(table[name].notna() & (table[name] != ""))
    return table[PAGES]


def named_queries(pairs: pd.DataFrame, pages: pd.DataFrame) -> pd.DataFrame:
    """The query map with addresses: the columns QUERIES, by page and impressions. Each page has one more row, without query, role and topic,
    for the clicks and impressions of withheld queries.
    """
    given = [name for name in QUERIES if name in pairs]
    shown = rows_at(pairs, (pairs["impressions"] > 0) | (pairs["role"] == "owner"), given)
    named = shown.groupby("page")[["clicks", "impressions"]].sum().reindex(pages.index).fillna(0).astype("int64")
    rest = pages[["clicks", "impressions"]] - named
    rest = rest[(rest["impressions"] > 0) & (rest["clicks"] >= 0)].reset_index(names="page")
    rest = rest.assign(**{name: pd.Series(pd.NA, index=rest.index, dtype=shown[name].dtype) for name in ("query", "role", "topic", "junk")})
    table = pd.concat([shown, rest], ignore_index=True)
    table["ctr"] = table["clicks"] / table["impressions"].where(table["impressions"] > 0)
    table["thin"] = (table["expected_clicks"] < THIN_CLICKS).astype("boolean").mask(table["query"].isna())
    keys = (table["query"].isna().to_numpy(), -table["impressions"].to_numpy(), table["page"].to_numpy())
    order = np.lexsort(keys)  # pages are numbered by address
    table = table.iloc[order].reset_index(drop=True)
    table["page"] = table["page"].map(pages["page"])
    table["brand"] = table["brand"].astype("boolean")
    table["days"] = table["days"].astype("Int64")
    for name in ("query", "role", "topic", "junk"):
        table[name] = spelt(table[name])
    return table[QUERIES]


def with_lone(queries: pd.DataFrame, lone: pd.DataFrame) -> pd.DataFrame:
    """The query map, followed by totals of queries whose pages are unknown; their page and role are empty.

    Args:
        queries: the columns QUERIES; lone: query, brand, clicks, impressions, position, pull, expected_clicks, topic.
    """
    rows = lone.assign(
        ctr=lone["clicks"] / lone["impressions"].where(lone["impressions"] > 0),
        thin=(lone["expected_clicks"] < THIN_CLICKS).astype("boolean"),
        **{name: pd.Series(None, index=lone.index, dtype="str") for name in ("page", "role", "junk")},
    )
    rows = rows.astype({"brand": "boolean", "query": "str", "topic": "str", "clicks": "int64", "impressions": "int64"})
    return pd.concat([queries, rows.assign(days=pd.array([pd.NA] * len(rows), dtype="Int64"))[QUERIES]], ignore_index=True)


def spelt(column: pd.Series) -> pd.Series:
    """A categorical column as texts."""
    if not isinstance(column.dtype, pd.CategoricalDtype):
        return column.astype("str")
    texts = column.cat.categories.astype("str").array.take(column.cat.codes.to_numpy(), allow_fill=True)
    return pd.Series(texts, index=column.index, name=column.name)


def rows_at(frame: pd.DataFrame, chosen: pd.Series, columns: list[str]) -> pd.DataFrame:
    """Some columns of the chosen rows (one truth value per row), without copying the other columns of a wide frame."""
    at = np.flatnonzero(chosen.to_numpy(bool))
    return pd.DataFrame({name: frame[name].array.take(at) for name in columns}, index=frame.index.take(at), copy=False)


def records(frame: pd.DataFrame) -> list[dict[str, Any]]:
    """The rows as dictionaries, None where a text is missing."""
    out = frame.copy()
    for name in out.columns[[isinstance(kind, pd.StringDtype) for kind in out.dtypes]]:
        out[name] = out[name].astype("object").where(out[name].notna(), None)
    return [{str(name): value for name, value in row.items()} for row in out.to_dict("records")]
