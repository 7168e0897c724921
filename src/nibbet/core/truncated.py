"""Lists that leave rows out: those of the most clicked rows of a period, those of so many rows a day, and those without rows without clicks."""

from __future__ import annotations

from datetime import date

import pandas as pd

from nibbet.core.windows import Window

#: rows of a period, and of days, from which a complete list has some without clicks; clicks of its last row from which a list of a period
#: is cut: complete ones end with many rows of none or one
LEAST_OF_PERIOD, LEAST_OF_DAYS, CUT = 20, 300, 2
#: share of days with the same number of rows, the most of any day, from which that is a limit; least such number
SAME, LEAST_LIMIT = 0.5, 50


def cut_lists(rows: pd.DataFrame) -> pd.DataFrame:
    """The lists of periods that end above zero: grain, start, date (its end), least (the clicks of their last row).

    Args:
        rows: from `core.reduce.lists`.
    """
    cut = rows[rows["undated"] & (rows["rows"] >= LEAST_OF_PERIOD) & (rows["least"] >= CUT)]
    return cut[["grain", "start", "date", "least"]].sort_values(["grain", "start", "date"], ignore_index=True)


def selected_days(rows: pd.DataFrame) -> pd.DataFrame:
    """Grains whose dated rows are a selection, so that their CTR is too high: grain, limit (rows a day, 0 where the selection is of rows with
    clicks), days (with so many rows), of (all days).

    Args:
        rows: from `core.reduce.lists`.
    """
    dated = rows[~rows["undated"]]
    every = dated.groupby("grain").agg(rows=("rows", "sum"), least=("least", "min"), limit=("rows", "max"), of=("rows", "size"))
    days = (dated["rows"] == dated["grain"].map(every["limit"])).groupby(dated["grain"]).sum().reindex(every.index)
    idle = (every["rows"] >= LEAST_OF_DAYS) & (every["least"] >= 1)
    full = (days >= SAME * every["of"]) & (every["limit"] >= LEAST_LIMIT)
    table = every.assign(days=days, limit=every["limit"].where(~idle, 0))[["limit", "days", "of"]]
    return table[idle | full].reset_index()


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
