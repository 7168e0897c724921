"""Which rows count when several exports cover the same days, so that the same traffic is never added twice.

Files of one shape (grain, dimensions, step of their dates) form a layer. On a day covered by several layers of a grain, one is used.
Within a layer, files whose rows for the same day are equal count once.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Any

import ibis
import pandas as pd

STEPS = ("day", "week", "month", "undated")
#: share of equal figures from which two files with rows for the same day and page hold the same traffic
SAME_SHARE = 0.5


@dataclass(frozen=True)
class Layer:
    """Files of one shape: number, grain (page, pair, query, site), step (see STEPS), the dimensions by which rows are split, a display name,
    and the period of undated ones.
    """

    number: int
    grain: str
    step: str
    dimensions: tuple[str, ...]
    name: str
    period: tuple[date, date] | None = None


def step_of(days: pd.Series) -> str:
    """day, week or month: the interval between the dates of an export.

    Months start on their first day, weeks on one weekday; a single date counts as a day.
    """
    dates = pd.Series(pd.to_datetime(days).dropna().sort_values().unique())
    if len(dates) < 3:
        return "day" if len(dates) < 2 or not (dates.dt.day == 1).all() else "month"
    apart = dates.diff().dt.days.dropna()
    if (dates.dt.day == 1).all() and apart.min() >= 28:
        return "month"
    weekdays = dates.dt.day_of_week
    return "week" if (weekdays == weekdays.iloc[0]).all() and apart.min() >= 7 else "day"


def choose_days(days: pd.DataFrame, layers: dict[int, Layer], *, prefer: tuple[str, ...]) -> pd.DataFrame:
    """Which layer is used for each day.

    Args:
        days: layer (number), date; one row per combination that has rows. Dates of weeks and months are their first days.
        prefer: dimensions that a layer should have, in order of preference; layers with finer steps win, then with these dimensions, then
            with fewer others.
    Returns:
        layer, date, instead (the name of the layer used for it; null where the rows themselves are used). Weeks and months that
        share a day with a finer layer are set aside whole, because they cannot be divided.
    """
    table = days.assign(date=pd.to_datetime(days["date"]))
    table["grain"] = table["layer"].map({number: layer.grain for number, layer in layers.items()})
    rank = sorted(
        layers.values(), key=lambda x: (STEPS.index(x.step), *[p not in x.dimensions for p in prefer], len(x.dimensions), x.number)
    )
    order = {layer.number: place for place, layer in enumerate(rank)}
    table["rank"] = table["layer"].map(order)
    spans = table["layer"].map({number: layer.step for number, layer in layers.items()})
    until = table["date"].where(spans == "day", table["date"] + pd.Timedelta(days=6))
    table["until"] = until.where(spans != "month", table["date"] + pd.offsets.MonthEnd(0))
    table["instead"] = None
    for _, rows in table.groupby("grain"):
        ranks = sorted(rows["rank"].unique())
        for place, better in enumerate(ranks[:-1]):
            taken = rows[(rows["rank"] == better) & table.loc[rows.index, "instead"].isna()]
            covered = pd.DatetimeIndex(_every_day(taken["date"], taken["until"]))
            for worse in ranks[place + 1 :]:
                mine = rows[(rows["rank"] == worse) & table.loc[rows.index, "instead"].isna()]
                hit = covered.searchsorted(pd.DatetimeIndex(mine["until"]), "right") > covered.searchsorted(pd.DatetimeIndex(mine["date"]))
                table.loc[mine.index[hit], "instead"] = rank[better].name
    return table[["layer", "date", "instead"]]


def _every_day(starts: pd.Series, ends: pd.Series) -> list[pd.Timestamp]:
    one = starts[starts == ends]
    longer = [day for start, end in zip(starts[starts != ends], ends[starts != ends], strict=True) for day in pd.date_range(start, end)]
    return sorted({*one, *longer})


def repeated(rows: ibis.Table, keys: list[str], measures: tuple[str, str]) -> ibis.Table:
    """Keys that several files contain: the keys, then files, same (whether all have equal figures), best (the file with the largest second
    measure, the first of equals).

    Args:
        rows: used rows of one layer, with file; keys may be null.
    """
    per_file = rows.group_by([*keys, "file"]).aggregate(a=rows[measures[0]].sum(), b=rows[measures[1]].sum())
    largest = per_file.b.max()
    grouped = per_file.group_by(keys).aggregate(
        files=per_file.count(), same=(per_file.a.min() == per_file.a.max()) & (per_file.b.min() == largest), top=largest
    )
    several = grouped.filter(grouped.files > 1)
    joined = several.inner_join(per_file, [several[key].identical_to(per_file[key]) for key in keys])
    best = joined.filter(joined.b == joined.top)
    return best.group_by([*keys, "files", "same"]).aggregate(best=best.file.min())


def copies_aside(table: ibis.Table, copies: ibis.Table, keys: list[str]) -> ibis.Table:
    """The rows, with those set aside whose key another file contains too, except in the best file for it."""
    marks = copies.rename({f"{key}_copy": key for key in keys}).select(*[f"{key}_copy" for key in keys], "best")
    conditions: list[Any] = [table[key].identical_to(marks[f"{key}_copy"]) for key in keys]
    joined = table.left_join(marks, conditions)
    copy = joined.aside.isnull() & joined.best.notnull() & (joined.best != joined.file)
    return joined.mutate(aside=ibis.cases((copy, "same rows in another file"), else_=joined.aside)).drop(
        *[f"{key}_copy" for key in keys], "best"
    )


#: days without rows within which a small site is only quiet; in longer gaps the data are missing
QUIET_DAYS = 7


def reached_days(dates: pd.Series) -> int:
    """Number of days covered by sorted dates, including gaps of at most QUIET_DAYS, excluding longer ones."""
    steps = dates.diff().dt.days.iloc[1:]
    return 1 + int(steps.where(steps <= QUIET_DAYS, 1).sum())


def covered_days(days: pd.DataFrame, layers: dict[int, Layer]) -> pd.DataFrame:
    """Every day that the given rows cover: one column, date; weeks and months count whole, undated rows by their last day.

    Args:
        days: layer, date.
    """
    step = days["layer"].map({number: layer.step for number, layer in layers.items()})
    until = days["date"].where(step != "week", days["date"] + pd.Timedelta(days=6))
    until = until.where(step != "month", days["date"] + pd.offsets.MonthEnd(0))
    return pd.DataFrame({"date": pd.DatetimeIndex(sorted(set(_every_day(days["date"], until))))})


def stretches(days: set[date], others: set[date]) -> list[tuple[date, date]]:
    """First and last days of the stretches of days; a gap of more than QUIET_DAYS ends a stretch where `others` (days of other rows) lie in
    it.
    """
    result: list[tuple[date, date]] = []
    for day in sorted(days):
        pause = (day - result[-1][1]).days if result else 0
        if result and (pause <= QUIET_DAYS or not any(result[-1][1] < other < day for other in others)):
            result[-1] = (result[-1][0], day)
        else:
            result.append((day, day))
    return result
