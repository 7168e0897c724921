"""Several inventories of one site: the newest takes precedence and older ones fill its gaps; and titles that changed."""

from __future__ import annotations

from datetime import date
from typing import NamedTuple

import numpy as np
import pandas as pd

CHANGED = "page title_before description_before crawled_before crawled_after".split()
#: share of pages that differ between two inventories from which one of them is assumed older: errors of an export are rarer
DIFFERENT = 0.02
#: columns that identify the row and do not describe the page
ROW = ("file", "page_id", "rank", "page", "aside", "crawled", "first", "last")


class Taken(NamedTuple):
    """The days between which an inventory was taken."""

    first: date
    last: date


def newest_facts(rows: pd.DataFrame) -> pd.DataFrame:
    """One row per page, each column from the newest inventory of that page that has it.

    Args:
        rows: file, page_id, rank (order of precedence of spellings of one page in one inventory, lowest first), page, first and last (day
            of its inventory; those of unknown date count as one, newer than all others), and the columns of facts.
    Returns:
        Indexed by page_id, in its order.
    """
    age = _age(rows)
    keys = pd.DataFrame({"page_id": rows["page_id"], "age": age, "rank": rows["rank"], "page": rows["page"]}).reset_index(drop=True)
    order = keys.sort_values(["page_id", "age", "rank", "page"], kind="stable").index.to_numpy()
    page = keys["page_id"].to_numpy()
    best = order[~pd.Series(page[order]).duplicated().to_numpy()]
    result = rows.iloc[best].set_index("page_id")
    files = rows["file"].to_numpy()
    if len(np.unique(files)) == 1:
        return result
    filled = rows.drop(columns=list(ROW), errors="ignore").notna().groupby(files).any()
    for name in filled:  # there are few columns and files
        having = filled.index[filled[name]]
        if len(having) in (0, len(filled)):
            continue
        those = order[np.isin(files[order], having)]
        those = those[~pd.Series(page[those]).duplicated().to_numpy()]
        of_page = rows[name].iloc[those].set_axis(pd.Index(page[those]))
        result[name] = of_page.reindex(result.index).astype(result[name].dtype)
    return result


def only_in_older(rows: pd.DataFrame) -> list[int]:
    """The numbers of pages that only older inventories than the newest contain."""
    age = _age(rows)
    newest = age.groupby(rows["page_id"].to_numpy()).min()
    return [int(page) for page in newest.index[(newest > age.min()).to_numpy()]]


def undated_twins(rows: pd.DataFrame) -> list[int]:
    """The files of unknown date that contain the same pages with different facts: one of them may be out of date."""
    current = rows[rows["last"].isna()]
    names = [name for name in ("status", "title") if name in current and current.groupby("file")[name].count().gt(0).sum() > 1]
    if not names:
        return []
    first_rows = current.sort_values(["file", "page_id", "rank", "page"], kind="stable").drop_duplicates(["file", "page_id"])
    several = first_rows[first_rows.duplicated("page_id", keep=False)]
    by_page = several.groupby("page_id")
    differs = pd.concat([several[name].ne(by_page[name].transform("first")) & several[name].notna() for name in names], axis=1).any(axis=1)
    pages = several.loc[differs, "page_id"].unique()
    if len(pages) < max(DIFFERENT * several["page_id"].nunique(), 1):
        return []
    return sorted(several.loc[several["page_id"].isin(pages), "file"].unique().tolist())


def changed_texts(rows: pd.DataFrame) -> pd.DataFrame:
    """Pages whose title or description changed between two inventories of known date, by the latest change: CHANGED, indexed by page_id.

    A text that one of the two inventories lacks is no change; of several changes the last counts. crawled_before: the last day on which the
    old text was certainly there; crawled_after: the first day of the new one.
    """
    texts = [name for name in ("title", "description") if name in rows]
    if rows["last"].nunique() < 2 or not texts:
        return pd.DataFrame(columns=CHANGED).rename_axis("page_id")
    former = rows[rows["last"].notna()].sort_values(["page_id", "last", "rank", "page"], kind="stable").drop_duplicates(["page_id", "last"])
    for name in texts:
        former[f"{name}_before"] = former.groupby("page_id")[name].shift()
    former["crawled_before"] = former.groupby("page_id")["first"].shift()
    known = [former[name].notna() & former[f"{name}_before"].notna() & former[name].ne(former[f"{name}_before"]) for name in texts]
    moved = former[np.logical_or.reduce([part.to_numpy(bool) for part in known])].drop_duplicates("page_id", keep="last")
    result = moved.rename(columns={"last": "crawled_after"}).set_index("page_id")
    return result.reindex(columns=CHANGED)


def ages(taken: dict[int, Taken | None]) -> dict[int, int]:
    """Number of newer exports than each file; those of unknown date count as one, newer than all others."""
    days = sorted({one.last for one in taken.values() if one is not None}, reverse=True)
    undated = any(one is None for one in taken.values())
    return {file: 0 if one is None else days.index(one.last) + undated for file, one in taken.items()}


def with_days(rows: pd.DataFrame, taken: dict[int, Taken | None]) -> pd.DataFrame:
    """The rows with first and last: the days between which the inventory of each was taken, null where unknown.

    Args:
        rows: file, page, crawled (day of the row; optional): a file with an address on several days holds several inventories, any other
            one.
        taken: the days given by file names.
    """
    named = {side: rows["file"].map({file: getattr(one, side) if one else None for file, one in taken.items()}) for side in Taken._fields}
    spans = {side: pd.to_datetime(days) for side, days in named.items()}
    if "crawled" in rows:
        day = pd.to_datetime(rows["crawled"])
        several = rows[["file", "page"]].duplicated().groupby(rows["file"]).transform("any")
        by_file = day.groupby(rows["file"])
        for side, of_file in (("first", by_file.transform("min")), ("last", by_file.transform("max"))):
            spans[side] = day.where(several, of_file).fillna(spans[side])
    return rows.assign(**spans)


def _age(rows: pd.DataFrame) -> pd.Series:
    """Number of newer inventories than that of each row: those of unknown date are the newest."""
    rank = -rows["last"].rank(method="dense").fillna(np.inf)
    return rank.rank(method="dense").astype("int64") - 1
