"""Addresses that are gone: until when they were used, and whether pages of their kind come and go."""

from __future__ import annotations

from datetime import date

import pandas as pd

#: days up to the last one within which an address counts as still used
STILL_DAYS = 28
#: pages of a section come and go where at least so many, and this share of all, are gone, and at most the last share of them left within
#: any STILL_DAYS days: many that leave at once were moved or lost, and single ones removed
COME_AND_GO, GONE_SHARE, LEFT_AT_ONCE = 10, 0.5, 0.5
#: gone pages that redirect to the same page from which it stands for their kind, and does not replace any one of them
SAME_TARGET = 3


def still_used(last: pd.Series, as_of: date, days: int = STILL_DAYS) -> pd.Series:
    """Whether each page was used in the `days` up to the last one; `last`: the last day of its use, null where days are unknown: true."""
    return last.isna() | ((pd.Timestamp(as_of) - pd.to_datetime(last)).dt.days < days)


def is_over(pages: pd.DataFrame, last: pd.Series) -> pd.Series:
    """Whether each page is gone as pages of its kind go when their time is over: offers, notices, dates of a section whose pages come and go.

    Args:
        pages: by page number: section, status, gone, redirects_to (address).
        last: by page number, the last day on which a gone page was used; null where it is unknown.
    """
    failed = pages["gone"] & (pages["status"].fillna(200) >= 400)
    target = pages["redirects_to"].where(pages["gone"])
    left = failed | (target.groupby(target).transform("size") >= SAME_TARGET)
    dated = left & last.notna()
    step = (pd.to_datetime(last[dated]) - pd.Timestamp(0)).dt.days // STILL_DAYS
    at_once = step.groupby(pages.loc[dated, "section"]).agg(lambda steps: steps.value_counts().iloc[0])
    table = pd.DataFrame({"known": dated, "left": left}).groupby(pages["section"]).agg(known=("known", "sum"), share=("left", "mean"))
    enough = (table["known"] >= COME_AND_GO) & (table["share"] >= GONE_SHARE)
    sections = table.index[enough & (at_once.reindex(table.index) <= LEFT_AT_ONCE * table["known"])]
    return left & pages["section"].isin(sections)
