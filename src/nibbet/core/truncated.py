"""Lists that leave rows out: those of the most clicked rows of a period, those of so many rows a day, and those without rows without clicks."""

from __future__ import annotations

from datetime import date

import ibis
import pandas as pd

from nibbet.core.windows import Window

#: rows of a period from which a complete list has some without clicks; clicks of its last row from which it is cut: complete lists end with
#: many rows of none or one
LEAST_OF_PERIOD, CUT = 20, 2
#: rows without clicks that must be missing at least
MISSING = 20
#: share of days with the same number of rows, the most of any day, from which that is a limit; limits are multiples of ROUND, and fewer than
#: the rows of all days, by this factor
SAME, ROUND, FEWER = 0.5, 50, 1.1


def lists(search: ibis.Table) -> ibis.Table:
    """One row per grain and period of undated rows or day: grain, undated, start (null for days), date, rows (their number), least (the clicks of
    the row with fewest), and idle, ones and twos: rows with no, one and two clicks. Rows of weeks count as days, and those of months are left out.
    """
    used = search.filter(search.used | search.free, search.undated | ~search.coarse)
    start, clicks = ibis.cases((used.undated, used.start), else_=ibis.null("date")), used.clicks.fill_null(0)
    counts = {name: (clicks == number).sum() for number, name in enumerate(("idle", "ones", "twos"))}
    return used.group_by("grain", "undated", "date", start=start).aggregate(rows=used.count(), least=clicks.min().cast("int64"), **counts)


def distinct_rows(search: ibis.Table, grain: str) -> ibis.Table:
    """The number of pages and queries that dated rows of a grain name: rows."""
    used = search.filter(search.used | search.free, search.grain == grain, ~search.undated, ~search.coarse)
    return used.select("page_id", "query").distinct().aggregate(rows=ibis._.count())


def cut_lists(rows: pd.DataFrame) -> pd.DataFrame:
    """The lists of periods that end above zero: grain, start, date (its end), least (the clicks of their last row).

    Args:
        rows: from `lists`.
    """
    cut = rows[rows["undated"] & (rows["rows"] >= LEAST_OF_PERIOD) & (rows["least"] >= CUT)]
    return cut[["grain", "start", "date", "least"]].sort_values(["grain", "start", "date"], ignore_index=True)


def selected_days(rows: pd.DataFrame) -> pd.DataFrame:
    """Grains whose dated rows are a selection, so that their CTR is too high: grain, limit (rows a day, 0 where the selection is of rows with
    clicks), days (with so many rows), of (all days). A limit is one only if there are more rows: see `is_limit`.

    Args:
        rows: from `lists`. Rows without clicks are missing where, of rows with few, there should be MISSING or more: at least the square of
            those with one / twice those with two (Chao 1984, Scandinavian Journal of Statistics 11:265).
    """
    dated = rows[~rows["undated"]]
    every = dated.groupby("grain").agg(**{n: (n, "sum") for n in ("idle", "ones", "twos")}, limit=("rows", "max"), of=("rows", "size"))
    days = (dated["rows"] == dated["grain"].map(every["limit"])).groupby(dated["grain"]).sum().reindex(every.index)
    clicked = (every["idle"] == 0) & (every["ones"] ** 2 >= 2 * MISSING * every["twos"].clip(lower=1))
    full = (days >= SAME * every["of"]) & (every["limit"] % ROUND == 0)
    table = every.assign(days=days, limit=every["limit"].where(~clicked, 0))[["limit", "days", "of"]]
    return table[clicked | full].reset_index()


def is_limit(limit: int, rows: int) -> bool:
    """Whether so many rows on most days are a limit: of `rows` pages and queries on all days, the others were left out. 0 is no number of rows."""
    return limit == 0 or rows >= FEWER * limit


def is_cut(window: Window, cut: pd.DataFrame, grain: str = "page") -> bool:
    """Whether a cut list of this grain serves the window."""
    spans = {(span.start, span.end) for span in window.spans if span.role == grain}
    return any((_day(row.start), _day(row.date)) in spans for row in cut[cut["grain"] == grain].itertuples())  # a handful of lists


def _day(given: object) -> date:
    return pd.Timestamp(str(given)).date()


def with_unlisted(sums: pd.DataFrame, of_queries: pd.DataFrame, labels: list[str]) -> tuple[pd.DataFrame, int]:
    """The sums of pages, in which those that a cut list lacks have the sums of their queries in all windows with cut lists, so that like is
    compared with like; and how many those are.

    Args:
        sums, of_queries: clicks, impressions, position_sum and placed with the suffixes of windows, by page number; labels: of the windows
            with a cut list of pages.
    """
    both = sums.reindex(sums.index.union(of_queries.index))
    counts = [name for name in map(str, sums) if name != "first_seen"]
    both[counts] = both[counts].fillna(0).astype(sums[counts].dtypes)
    known = of_queries.reindex(both.index).fillna(0)
    shown = [f"impressions_{label}" for label in labels if f"impressions_{label}" in both]
    missing = pd.concat([(both[name] == 0) & (known[name] > 0) for name in shown], axis=1).any(axis=1)
    for name in (name for name in of_queries if str(name) in both and str(name).rsplit("_", 1)[-1] in labels):
        both[name] = both[name].mask(missing, known[name]).astype(sums[name].dtype)
    return both.sort_index(), int(missing.sum())
