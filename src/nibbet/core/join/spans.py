"""Which undated rows serve a window: rows of a period count only where their period is the window.

Covers describe which days are covered: dated rows (days, weeks, months), which can be cut to any window that respects their steps,
and periods, which serve only as a whole. Consecutive periods make a longer one.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta

from nibbet.core.windows import RECENT_DAYS, WHOLE, Span, Window, Windows, make_windows, whole_steps, year_before

#: days by which the end of a current period may precede the newest day
NOW_DAYS = 10
#: days by which a period may differ from the same days a year earlier
YEAR_SLACK = 12
#: share of days in common from which visits of one period are compared with searches of another
SAME_DAYS = 0.75
#: share of the days of a window that dated rows must cover to serve it
ENOUGH_DAYS = 0.5
#: days from which query rows may make the recent window where page rows go back further: four whole weeks
LEAST_RECENT = 28
#: largest ratio of the lengths of the recent window and the reference
LENGTHS = 2.5


@dataclass(frozen=True)
class Cover:
    """Days covered by rows of one kind and grain: `step` day, week, month or undated; `days` of them from `start` to `end`."""

    kind: str
    grain: str
    step: str
    start: date
    end: date
    days: int

    @property
    def is_dated(self) -> bool:
        """Whether its rows have days, weeks or months."""
        return self.step != "undated"


def overlap(a: Window, b: Window) -> float:
    """The common days of two windows / the days of both together."""
    common = (min(a.end, b.end) - max(a.start, b.start)).days + 1
    return max(common, 0) / (a.days + b.days - max(common, 0))


def disjoint(periods: Iterable[tuple[date, date]]) -> list[tuple[date, date]]:
    """The longest periods without common days; the earlier of equals first."""
    kept: list[tuple[date, date]] = []
    for start, end in sorted(set(periods), key=lambda p: (-(p[1] - p[0]).days, p[0])):
        if all(end < a or start > b for a, b in kept):
            kept.append((start, end))
    return sorted(kept)


def chosen(
    covers: Sequence[Cover],
    first: date,
    as_of: date,
    *,
    recent: int | None,
    long: int,
    reference: str | None,
    queries: Sequence[tuple[date, date]] = (),
    counted_since: date | None = None,
) -> Windows:
    """The windows that the rows allow: the usual ones for dated rows, else the nearest periods.

    Args:
        covers: of search and landings; first, as_of: first and last day of search rows; recent, long, reference: see `make_windows`;
        queries: the stretches of days on which dated rows name queries of pages; counted_since: see `core.windows.Windows`.
    Returns:
        Windows whose `spans` name the periods that serve them; months and weeks move their edges.
    """
    search = [c for c in covers if c.kind == "search" and c.grain in ("page", "pair")] or [c for c in covers if c.kind == "search"]
    dated = [c for c in search if c.is_dated]
    periods = [c for c in search if not c.is_dated]
    usual = make_windows(first, as_of, recent=recent, long=long, reference=reference)
    since = next((start for start, end in queries if (end - start).days + 1 >= WHOLE * ((as_of - start).days + 1)), as_of)
    if recent is None and any(c.grain == "page" for c in dated) and LEAST_RECENT <= (as_of - since).days + 1 < WHOLE * usual.recent.days:
        # page rows often go back further than query rows
        usual = make_windows(first, as_of, recent=(as_of - since).days + 1, long=long, reference=reference)
    if recent is None and counted_since and usual.recent.start < counted_since and (as_of - counted_since).days + 1 >= LEAST_RECENT:
        usual = make_windows(first, as_of, recent=7 * (((as_of - counted_since).days + 1) // 7), long=long, reference=reference)
    usual = replace(usual, queries=tuple(Window(start, end) for start, end in queries), counted_since=counted_since)
    candidates = [usual.recent] if dated and any(_days_in(c, usual.recent) >= ENOUGH_DAYS * usual.recent.days for c in dated) else []
    whole = _wholes(periods)
    newest = max((w.end for w in [*candidates, *whole]), default=as_of)
    current = [w for w in whole if (newest - w.end).days <= NOW_DAYS]
    if not current:  # dated rows, and nothing newer
        step = _step(dated)
        result = replace(usual.changed(lambda window: whole_steps(window, step, usual.as_of)), step=step)
        known = usual.reference.start >= first
        return _with_visits(
            replace(result, reference_known=known, is_daily=_is_daily(dated), has_daily_pairs=_is_daily(dated)), covers, long
        )
    now = min([*candidates, *current], key=lambda w: (-_roles(w, search), abs(math.log(w.days / (recent or RECENT_DAYS))), w.start))
    then, kind = _reference(now, whole, dated, reference, search)
    ends = [w for w in [*whole, *([usual.long] if dated else [])] if abs((now.end - w.end).days) <= NOW_DAYS and w.days <= long * 1.2]
    longest = min([*ends, now], key=lambda w: (abs(math.log(_reach(w, search, first) / long)), w.start))
    searched = [c for c in covers if c.kind == "search"]
    spans = {name: _serving(w, searched) for name, w in (("recent", now), ("reference", then), ("long", longest)) if w is not None}
    windows = Windows(
        replace(now, spans=spans["recent"]),
        replace(then, spans=spans["reference"]) if then is not None else usual_before(now),
        replace(longest, spans=spans["long"]),
        kind,
        first,
        reference_known=then is not None,
        is_daily=_is_daily(dated) and not any(s.role == "page" for s in spans["recent"]),
        has_daily_pairs=_is_daily([c for c in dated if c.grain == "pair"]) and not any(s.role == "pair" for s in spans["recent"]),
        queries=usual.queries,
        counted_since=counted_since,
    )
    return _with_visits(windows, covers, long)


def usual_before(now: Window) -> Window:
    """The days just before a window, of equal length."""
    return Window(now.start - timedelta(days=now.days), now.start - timedelta(days=1))


def _reference(
    now: Window, whole: list[Window], dated: list[Cover], reference: str | None, search: list[Cover]
) -> tuple[Window | None, str]:
    """The reference of the recent window and its kind; None where nothing covers an earlier one."""
    year = Window(year_before(now.start), year_before(now.end))
    before = usual_before(now)
    earlier = [w for w in whole if w.end < now.start and 1 / LENGTHS <= w.days / now.days <= LENGTHS]
    earlier += [w for w in (year, before) if any(c.is_dated and _days_in(c, w) >= WHOLE * w.days for c in dated)]
    earlier = [w for w in earlier if _roles(w, search)]
    of_year = [w for w in earlier if abs((w.start - year.start).days) <= YEAR_SLACK or overlap(w, year) > 0.8]
    just = [w for w in earlier if w not in of_year]
    kinds = {"year": [(of_year, "year")], "before": [(just, "before")]}.get(reference or "", [(of_year, "year"), (just, "before")])
    for windows, kind in kinds:
        if windows:
            aim = year if kind == "year" else before
            return max(windows, key=lambda w: (_roles(w, search), overlap(w, aim), w.end, w.start)), kind
    return None, "before"


def _wholes(periods: list[Cover]) -> list[Window]:
    """Every window that periods of one grain make whole: each alone, and consecutive ones."""
    result: dict[tuple[date, date], Window] = {}
    for grain in {c.grain for c in periods}:
        bounds = sorted({(c.start, c.end) for c in periods if c.grain == grain})
        result.update({span: Window(*span) for span in bounds})
        for n, (start, end) in enumerate(bounds):
            for following in bounds[n + 1 :]:
                if following[0] == end + timedelta(days=1):
                    end = following[1]
                    result[start, end] = Window(start, end)
    return sorted(result.values(), key=lambda w: (w.start, w.end))


def _days_in(cover: Cover, window: Window) -> float:
    """Number of days of a window in a cover; for a dated one by its mean density."""
    common = (min(cover.end, window.end) - max(cover.start, window.start)).days + 1
    return max(common, 0) * cover.days / ((cover.end - cover.start).days + 1)


def _tiles(window: Window, covers: list[Cover], grain: str) -> list[tuple[date, date]]:
    """The periods of a grain that make a window whole; none where they do not."""
    inside = disjoint(
        (c.start, c.end) for c in covers if not c.is_dated and c.grain == grain and c.start >= window.start and c.end <= window.end
    )
    return inside if sum((b - a).days + 1 for a, b in inside) == window.days else []


def _serving(window: Window, covers: list[Cover]) -> tuple[Span, ...]:
    """The periods whose rows serve a window, by role: page (the totals of pages), pair (queries of pages), query (totals of queries). None
    where dated rows do.
    """
    spans: list[Span] = []
    grains = ("page", "pair", "query")
    dated = {grain: max((_days_in(c, window) for c in covers if c.is_dated and c.grain == grain), default=0.0) for grain in grains}
    enough = {grain: days >= ENOUGH_DAYS * window.days for grain, days in dated.items()}
    tiles = {grain: _tiles(window, covers, grain) for grain in grains}
    for grain in ("pair", "query"):
        if not enough[grain]:
            spans += [Span(grain, grain, *tile) for tile in tiles[grain]]
    if not enough["page"]:
        of_page = "page" if tiles["page"] else "pair" if tiles["pair"] and not enough["pair"] else ""
        spans += [Span("page", of_page, *tile) for tile in tiles.get(of_page, [])]
    return tuple(spans)


def _roles(window: Window, covers: list[Cover]) -> int:
    """How much rows show of a window: 2 for queries of pages, which give totals too, and 1 for totals of pages alone."""

    others = {c.grain for c in covers} - {"page", "pair"}
    return 2 if reaches(window, covers, "pair") else int(any(reaches(window, covers, grain) for grain in ("page", *others)))


def reaches(window: Window, covers: list[Cover], grain: str) -> bool:
    """Whether rows of a grain serve a window throughout, by days or by periods."""
    dated = max((_days_in(c, window) for c in covers if c.is_dated and c.grain == grain), default=0.0)
    return dated >= ENOUGH_DAYS * window.days or bool(_tiles(window, covers, grain))


def _reach(window: Window, covers: list[Cover], first: date) -> int:
    """Number of days of a window that anything covers."""
    start = max(window.start, first)
    return max((window.end - start).days + 1, 1)


def _is_daily(dated: Sequence[Cover]) -> bool:
    return any(c.step in ("day", "week") for c in dated)


def _step(dated: Sequence[Cover]) -> str:
    """The step of window edges: days where any rows are daily, else months, else weeks; months are never cut."""
    steps = {c.step for c in dated if c.grain in ("page", "pair")} or {c.step for c in dated}
    return "day" if "day" in steps or not steps & {"month", "week"} else "month" if "month" in steps else "week"


def _with_visits(windows: Windows, covers: Sequence[Cover], long: int) -> Windows:
    """The windows with the periods whose visits serve them, and the long window of visits, which may go further back than searches."""
    visits = [replace(c, grain="page") for c in covers if c.kind == "landings" and c.grain != "conversions"]
    if not visits:
        return windows
    whole = _wholes([c for c in visits if not c.is_dated])

    def days_in(window: Window) -> float:
        return max((_days_in(c, window) for c in visits if c.is_dated), default=0.0)

    def tiled(window: Window, best: Window) -> Window:
        return replace(window, spans=(*window.spans, *(Span("visits", "page", *tile) for tile in _tiles(best, visits, "page"))))

    def of(window: Window) -> Window:
        best = max(whole, key=lambda w: (overlap(w, window), w.start), default=None)
        needed = best is not None and days_in(window) < ENOUGH_DAYS * window.days and overlap(best, window) >= SAME_DAYS
        return tiled(window, best) if needed and best is not None else window

    result, as_of = windows.changed(of), windows.as_of
    two = {"recent": result.recent, "reference": result.reference}
    covered = [n for n, w in two.items() if days_in(w) >= ENOUGH_DAYS * w.days or any(s.role == "visits" for s in w.spans)]
    result = replace(result, visits_in=tuple(covered))
    usual = Window(as_of - timedelta(days=long - 1), as_of)
    ends = [w for w in whole if abs((as_of - w.end).days) <= NOW_DAYS and w.days <= long * 1.2]
    best = min(ends, key=lambda w: (abs(math.log(w.days / long)), w.start), default=None)
    if best is not None and best.days > days_in(usual):
        return replace(result, visits=tiled(Window(best.start, best.end), best), visit_days=best.days)
    starts = [c.start for c in visits if c.is_dated]
    clipped = Window(max(usual.start, min(starts)), as_of) if starts and min(starts) <= as_of else usual
    return replace(result, visits=clipped, visit_days=round(days_in(usual)))
