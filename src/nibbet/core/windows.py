"""Windows: which days are complete, which are recent, and with which they are compared."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any, NamedTuple

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.errors import NotFoundError

#: impressions or sessions a day from which a day without rows is no chance: one in 20,000 by a Poisson distribution
EVERY_DAY = 10
#: a newest day below this share of the usual value of its weekday is incomplete; ordinary days vary by a fifth
COMPLETE_SHARE = 0.7
#: share of earlier days that may look incomplete although they are not; earlier days from which this is learnt; and share of the usual below
#: which a whole week is not delivered rather than poor
ODD_SHARE, JUDGED_DAYS, HARDLY = 0.02, 84, 0.3
#: days by which the same period of another year may end otherwise
SAME_SEASON = 5
MONTH_DAYS = 30.4
#: the note where rows name queries in one window only
NOT_OF_QUERIES = "Changes of queries, topics and the brand are unknown: rows name them in one of the two windows only."


class Span(NamedTuple):
    """A period whose rows serve a window as a whole: role page (totals of pages), pair (queries of pages), query (totals of queries)
    or visits; the grain of its rows.
    """

    role: str
    grain: str
    start: date
    end: date


@dataclass(frozen=True)
class Window:
    """From `start` to `end`, inclusive; `spans` are the periods whose undated rows serve it, where there are no dated ones."""

    start: date
    end: date
    spans: tuple[Span, ...] = ()

    @property
    def days(self) -> int:
        """Number of days."""
        return (self.end - self.start).days + 1

    def __str__(self) -> str:
        return f"{self.start.isoformat()}..{self.end.isoformat()}"

    def holds(self, days: pd.Series) -> pd.Series:
        """Which of the days are inside."""
        return days.between(pd.Timestamp(self.start), pd.Timestamp(self.end))


#: share of the days of a window that rows must cover to represent all of it
WHOLE = 0.95
#: the fields of `Windows` that are written as they are
PLAIN = ("reference_kind", "reference_known", "is_daily", "has_daily_pairs", "step")


@dataclass(frozen=True)
class Windows:
    """The windows of one analysis; `reference_kind` is year or before; `first` is the first day with data.

    reference_known: whether the data cover the reference window; is_daily: whether the recent window consists of days or weeks, so that its
    last weeks are known; has_daily_pairs: the same for queries; visits: the long window of visits (null without landings), which may go
    further back than that of searches, and visit_days: days of it that they cover; visits_in: which of recent and reference visits cover;
    step: day, week or month, the length of the newest rows, which no window cuts; queries: the stretches of days on which dated rows name
    queries of pages; counted_since: the first day since which impressions are counted as in the newest rows (see `core.recount`), None
    where they always were.
    """

    recent: Window
    reference: Window
    long: Window
    reference_kind: str
    first: date
    reference_known: bool = True
    is_daily: bool = True
    has_daily_pairs: bool = True
    visits: Window | None = None
    visit_days: int = 0
    visits_in: tuple[str, ...] = ("recent", "reference")
    step: str = "day"
    queries: tuple[Window, ...] = ()
    counted_since: date | None = None

    @property
    def has_reference(self) -> bool:
        """Whether the reference window is known and the data cover its first day."""
        return self.reference_known and self.reference.start >= self.first

    @property
    def are_counted_alike(self) -> bool:
        """Whether impressions and positions of both windows are comparable."""
        return self.counted_since is None or not self.reference.start < self.counted_since <= self.recent.end

    @property
    def as_of(self) -> date:
        """The last complete day, with which the recent and the long window end."""
        return self.recent.end

    def changed(self, change: Callable[[Window], Window]) -> Windows:
        """The same with recent, reference and long window each changed."""
        return replace(self, recent=change(self.recent), reference=change(self.reference), long=change(self.long))

    def serves(self, window: Window, role: str) -> bool:
        """Whether rows of a role serve a window: always where rows have days, else where a period does."""
        by_days = self.is_daily if role == "page" else self.has_daily_pairs
        return (
            by_days or any(span.role == role for span in window.spans) or not any(w.spans for w in (self.recent, self.reference, self.long))
        )

    def query_days(self, window: Window) -> int:
        """Number of days of a window on which rows name queries of pages."""
        if any(span.role == "pair" for span in window.spans):
            return window.days
        return sum(max((min(one.end, window.end) - max(one.start, window.start)).days + 1, 0) for one in self.queries)

    @property
    def compares_queries(self) -> bool:
        """Whether rows name the queries of both windows throughout; otherwise only changes of pages are reported."""
        return all(self.query_days(window) >= WHOLE * window.days for window in (self.recent, self.reference))

    @property
    def has_queries_throughout(self) -> bool:
        """Whether rows name queries on all days of the long window that the data cover, as needed for lives."""
        return self.query_days(replace(self.long, start=max(self.long.start, self.first))) >= WHOLE * self.covered_days

    def as_dict(self) -> dict[str, Any]:
        """All fields as texts and numbers; see `from_dict`."""
        three = {"recent": self.recent, "reference": self.reference, "long": self.long}
        spans = {name: [str(w.start), str(w.end)] for name, w in three.items()}
        if self.visits is not None:
            three["visits"] = self.visits
            spans["visits"] = [str(self.visits.start), str(self.visits.end)]
        tiles = {name: [[*span[:2], str(span.start), str(span.end)] for span in w.spans] for name, w in three.items()}
        more = {name: getattr(self, name) for name in PLAIN}
        more["queries"] = [[str(one.start), str(one.end)] for one in self.queries]
        more["counted_since"] = None if self.counted_since is None else str(self.counted_since)
        return {**spans, "spans": tiles, **more, "first": str(self.first), "visit_days": self.visit_days, "visits_in": list(self.visits_in)}

    @classmethod
    def from_dict(cls, known: dict[str, Any]) -> Windows:
        """The windows from the result of `as_dict`."""

        def window(name: str) -> Window:
            spans = [Span(role, grain, date.fromisoformat(a), date.fromisoformat(b)) for role, grain, a, b in known["spans"][name]]
            start, end = known[name]
            return Window(date.fromisoformat(start), date.fromisoformat(end), tuple(spans))

        more = {name: known[name] for name in PLAIN}
        return cls(
            window("recent"),
            window("reference"),
            window("long"),
            first=date.fromisoformat(known["first"]),
            visits=window("visits") if "visits" in known else None,
            visit_days=known["visit_days"],
            visits_in=tuple(known["visits_in"]),
            queries=tuple(Window(date.fromisoformat(a), date.fromisoformat(b)) for a, b in known["queries"]),
            counted_since=None if known["counted_since"] is None else date.fromisoformat(known["counted_since"]),
            **more,
        )

    @property
    def covered_days(self) -> int:
        """Number of days of the long window that the data cover."""
        return (self.long.end - max(self.long.start, self.first)).days + 1


def last_complete_day(days: pd.DataFrame, *, at_most: int = 7) -> date:
    """The newest day whose data are complete.

    Args:
        days: one row per day with data: date, impressions (count).
        at_most: how many of the newest days may be incomplete.
    Returns:
        The newest day with at least COMPLETE_SHARE of what its weekday usually has: the median over the eight weeks before the newest `at_most`
        days, at the level of the last two of them. Where ordinary days vary more, less is enough: what all but ODD_SHARE of the earlier days
        had, judged in the same way. Where all of the newest days are low, but none of them hardly has anything, the site has changed: their
        own level counts.
    """
    series = days.sort_values("date").set_index("date")["impressions"].astype(float)
    if len(series) <= at_most + 14:
        return pd.Timestamp(series.index[-1]).date()
    values = np.asarray(series, dtype=np.float64)
    weekday: NDArray[np.int64] = pd.DatetimeIndex(series.index).day_of_week.to_numpy(np.int64)
    end = len(values) - at_most
    share = _share_of_usual(values, weekday, end, at_most)
    earlier = [_share_of_usual(values, weekday, at, at_most) for at in range(max(14, end - at_most - JUDGED_DAYS), end - at_most + 1)]
    enough = min(COMPLETE_SHARE, float(np.quantile(earlier, ODD_SHARE))) if len(earlier) * at_most >= 1 / ODD_SHARE else COMPLETE_SHARE
    if (share < enough).all() and (level := float(np.median(share[: -(at_most // 2)]))) >= HARDLY:
        share = share / level
    whole = np.flatnonzero(share >= enough)
    return pd.Timestamp(series.index[end + whole[-1] if len(whole) else end - 1]).date()


def _share_of_usual(values: NDArray[np.float64], weekday: NDArray[np.int64], end: int, count: int) -> NDArray[np.float64]:
    """The next `count` days after the first `end` as shares of what their weekdays usually have."""
    base, of_base = values[max(end - 56, 0) : end], weekday[max(end - 56, 0) : end]
    medians = [np.median(base[of_base == day]) if (of_base == day).any() else np.median(base) for day in range(7)]
    usual = np.array(medians)
    level = base[-14:].sum() / max(usual[of_base[-14:]].sum(), 1e-9)
    share: NDArray[np.float64] = values[end : end + count] / np.maximum(level * usual[weekday[end : end + count]], 1e-9)
    return share


def last_complete_period(periods: pd.DataFrame) -> date:
    """The end of the newest complete month, week or other period of one length.

    Args:
        periods: one row per period: date (its last day), impressions (count).
    Returns:
        The newest one, or the one before where it has less than COMPLETE_SHARE of the median of the three before it, at the season of a year
        earlier where the data show it: that of the same period against the three (at least one) before it.
    """
    series = periods.sort_values("date").set_index("date")["impressions"].astype(float)
    if len(series) < 2:
        return pd.Timestamp(series.index[-1]).date()
    usual = float(series.iloc[:-1].tail(3).median())
    apart = abs((series.index - (series.index[-1] - pd.Timedelta(days=365.25))).days)
    then = int(apart.argmin())
    if then > 0 and apart[then] <= SAME_SEASON and (level := float(series.iloc[:then].tail(3).median())) > 0:
        usual *= float(series.iloc[then]) / level
    return pd.Timestamp(series.index[-2 if series.iloc[-1] < COMPLETE_SHARE * usual else -1]).date()


#: default length of the recent window: long enough for rates, short enough to be current
RECENT_DAYS = 90
#: days of history from which it is halved into a recent window and one before it, if it is too short for the usual length
LEAST_HALVED = 56


def make_windows(first: date, as_of: date, *, recent: int | None, long: int, reference: str | None) -> Windows:
    """The windows that end with `as_of`; the reference is a year earlier where the data go back that far, else just before.

    `recent` defaults to RECENT_DAYS; a shorter history is halved into two windows, in whole weeks. No window begins before
    the data, except an unknown reference.
    """
    days = (as_of - first).days + 1
    if recent is None and LEAST_HALVED <= days < RECENT_DAYS:
        recent = 7 * (days // 14)
    recent = min(recent or RECENT_DAYS, max(days, 1))
    now = Window(as_of - timedelta(days=recent - 1), as_of)
    year = Window(year_before(now.start), year_before(now.end))
    before = Window(now.start - timedelta(days=recent), now.start - timedelta(days=1))
    kind = reference or ("year" if year.start >= first else "before")
    then = year if kind == "year" else before
    whole = Window(min(max(as_of - timedelta(days=long - 1), first), now.start), as_of)
    return Windows(now, then, whole, kind, first, reference_known=then.start >= first)


def chosen_windows(usual: Windows, recent: int | str | None, against: str | None) -> Windows:
    """The windows of a comparison: `recent` days up to the last complete one or FROM..TO, against year, before or FROM..TO.

    Raises NotFoundError where a window is invalid or outside the data.
    """
    now = usual.recent
    if isinstance(recent, int) or (recent is not None and recent.strip().isdigit()):
        days = int(recent)
        if days < 1:
            raise NotFoundError("The recent window needs at least one day. Give a number of days, as 28, or FROM..TO.")
        now = Window(usual.as_of - timedelta(days=days - 1), usual.as_of)
    elif recent is not None:
        now = _written(recent)
    now = whole_steps(now, usual.step, usual.as_of)
    year = Window(year_before(now.start), year_before(now.end))
    before = Window(now.start - timedelta(days=now.days), now.start - timedelta(days=1))
    year, before = (whole_steps(window, usual.step, usual.as_of) for window in (year, before))
    if against in (None, "year", "before"):
        kind = against or (usual.reference_kind if now == usual.recent else "year" if year.start >= usual.first else "before")
        then = usual.reference if against is None and now == usual.recent else year if kind == "year" else before
    else:
        kind, then = "range", whole_steps(_written(str(against)), usual.step, usual.as_of)
        if (now.start - then.start).days in range(360, 372) and abs(now.days - then.days) <= 1:
            kind = "year"
    if recent is None and against is None:
        return usual
    known = [w for w in (usual.recent, usual.reference, usual.long) if w.spans]
    if known:  # periods serve as a whole or not at all
        by_days = {(w.start, w.end): w for w in known}
        if (now.start, now.end) in by_days and (then.start, then.end) in by_days:
            return replace(usual, recent=by_days[now.start, now.end], reference=by_days[then.start, then.end], reference_kind=kind)
        raise NotFoundError(
            f"Rows without days serve only the windows of their periods: {', '.join(str(w) for w in dict.fromkeys(known))}. Name two of these."
        )
    for name, window in (("recent", now), ("reference", then)):
        if window.start < usual.first or window.end > usual.as_of:
            raise NotFoundError(
                f"The {name} window {window} lies outside the data, which reach from {usual.first} to {usual.as_of}. Choose days inside."
            )
    return replace(usual, recent=now, reference=then, reference_kind=kind, reference_known=True)


def whole_steps(window: Window, step: str, as_of: date) -> Window:
    """The nearest window of whole weeks or months, for rows of such length (`step`); weeks end on the weekday of `as_of`."""
    if step == "week":
        end = as_of - timedelta(days=7 * round((as_of - window.end).days / 7))
        return Window(end - timedelta(days=7 * max(1, round(window.days / 7)) - 1), end)
    if step == "month":
        last = window.end + timedelta(days=1)
        end = _month_after(last, 0 if last.day < 16 else 1)
        return Window(_month_after(end, -max(1, round(window.days / 30.44))), end - timedelta(days=1))
    return window


def _month_after(day: date, months: int) -> date:
    """The first day of the month so many months after that of `day`."""
    number = day.year * 12 + day.month - 1 + months
    return date(number // 12, number % 12 + 1, 1)


def _written(text: str) -> Window:
    first, _, last = text.partition("..")
    try:
        window = Window(date.fromisoformat(first.strip()), date.fromisoformat(last.strip()))
    except ValueError:
        raise NotFoundError(f"{text} is no window. Write it as 2026-08-01..2026-08-31.") from None
    if window.days < 1:
        raise NotFoundError(f"The window {text} ends before it begins. Write the earlier day first.")
    return window


def year_before(day: date) -> date:
    """The same calendar day a year earlier."""
    try:
        return day.replace(year=day.year - 1)
    except ValueError:  # 29 February
        return day.replace(year=day.year - 1, day=28)


def year_earlier(windows: Windows) -> Windows | None:
    """The same windows a year earlier, or None where the data do not go back that far."""
    year = timedelta(days=364)  # the same weekdays
    moved = [Window(w.start - year, w.end - year) for w in (windows.recent, windows.reference)]
    if min(window.start for window in moved) < windows.first or not windows.is_daily:
        return None
    return replace(windows, recent=moved[0], reference=moved[1], reference_kind="before")


def missing_search_days(days: pd.DataFrame) -> pd.DatetimeIndex:
    """`missing_days` of search; days: date, clicks, impressions (0 where no source has them)."""
    return missing_days(days["date"], days[["clicks", "impressions"]].max(axis=1))


def missing_days(dates: pd.Series, counts: pd.Series) -> pd.DatetimeIndex:
    """The days without rows between consecutive days: of an outage, or missing from the export.

    Args:
        dates, counts: one row per day of the site. None are missing where days have fewer than EVERY_DAY counts, since some then have none by
            chance, or where rows of weeks or months, whose dates stand alone, lie among days.
    """
    days = pd.DatetimeIndex(dates.sort_values())
    after = pd.Series(days).diff().dt.days.eq(1)
    alone = (~(after | after.shift(-1, fill_value=False))).to_numpy()
    daily = days[~alone]
    if daily.empty or float(counts.median()) < EVERY_DAY or ((days[alone] > daily[0]) & (days[alone] < daily[-1])).any():
        return pd.DatetimeIndex([])
    return pd.date_range(daily[0], daily[-1]).difference(daily)


def weekday_scale(days: pd.DataFrame, recent: Window, reference: Window, missing: pd.DatetimeIndex | None = None) -> float:
    """The factor that makes a reference sum comparable with the recent window in length and mix of weekdays.

    Args:
        days: one row per day: date, clicks (count); their weekday means are the weights; missing: days of the windows without rows.
    """
    weekday = days.groupby(days["date"].dt.day_of_week)["clicks"].mean().reindex(range(7)).fillna(0.0).to_numpy() + 1e-9
    left_out = pd.DatetimeIndex([]) if missing is None else missing

    def weight(window: Window) -> float:
        whole = pd.date_range(window.start, window.end)
        there = whole.difference(left_out)
        return float(np.bincount((there if len(there) else whole).day_of_week, minlength=7) @ weekday)

    return weight(recent) / weight(reference)


def whole_weeks(days: pd.DataFrame, as_of: date) -> pd.DataFrame:
    """first, end and clicks of every whole week of a site, counted back from the last day, in chronological order.

    Args:
        days: date, clicks; one row per complete day.
    """
    back = (pd.Timestamp(as_of) - days["date"]).dt.days // 7
    weeks = days.groupby(back).agg(first=("date", "min"), end=("date", "max"), clicks=("clicks", "sum"), days=("date", "size"))
    return weeks[weeks["days"] == 7].sort_values("end")[["first", "end", "clicks"]]
