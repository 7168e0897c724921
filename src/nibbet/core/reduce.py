"""The heavy reduction: from rows to pages, pairs, weeks and cells, as expressions that run where the rows are."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import ibis
from ibis import _

from nibbet.core.windows import Window, Windows

SUMS = ("clicks", "impressions", "position_sum", "placed")
VISITS = ("sessions", "engaged_sessions", "engagement_seconds", "conversions", "revenue")


def inside(table: ibis.Table, window: Window) -> Any:
    """Whether a row lies inside the window."""
    return table.date.between(ibis.literal(window.start, "date"), ibis.literal(window.end, "date"))


def windowed(table: ibis.Table, names: tuple[str, ...], windows: dict[str, Window], by: list[str]) -> ibis.Table:
    """Sums of `names` per window: columns NAME_WINDOW, one row per key; undated rows count in windows that hold all their days."""
    sums = {
        f"{name}_{label}": ibis.cases((inside(table, window), table[name]), else_=0)
        .sum()
        .cast("float64" if name == "position_sum" else table[name].type())
        for label, window in windows.items()
        for name in names
    }
    dated = ~table.undated
    return table.group_by(by).aggregate(**sums, first_seen=table.date.min(where=dated), dated=dated.any())


def page_rows(search: ibis.Table) -> ibis.Table:
    """Rows that make the totals of pages: page-grain ones, and query-grain ones on days that no page-grain row covers."""
    return search.filter(search.aside.isnull() & ~search.detail & search.page_id.notnull())


def pair_rows(search: ibis.Table) -> ibis.Table:
    """Rows that carry both page and query."""
    return search.filter(search.aside.isnull() & (search.grain == "pair") & search.page_id.notnull() & search["query"].notnull())


def page_sums(search: ibis.Table, windows: Windows) -> ibis.Table:
    """One row per page: clicks, impressions, position_sum, placed in the recent, reference and long windows and the last four weeks."""
    four_weeks = Window(windows.as_of - timedelta(days=27), windows.as_of)
    three = {"recent": windows.recent, "reference": windows.reference, "long": windows.long, "last28": four_weeks}
    return windowed(page_rows(search), SUMS, three, ["page_id"])


def visit_sums(landings: ibis.Table, windows: Windows) -> ibis.Table:
    """One row per page: sums of the visits over all channels, and of organic sessions, in the recent and long windows."""
    used = landings.filter(landings.aside.isnull())
    used = used.mutate(
        **{name: used[name].fill_null(0) for name in VISITS},
        sessions_organic=ibis.cases((used.organic.fill_null(False), used.sessions), else_=0),
    )
    used = used.mutate(engaged_organic=ibis.cases((used.organic.fill_null(False), used.engaged_sessions), else_=0))
    return windowed(used, (*VISITS, "sessions_organic", "engaged_organic"), {"recent": windows.recent, "long": windows.long}, ["page_id"])


def hit_sums(hits: ibis.Table, windows: Windows) -> ibis.Table:
    """One row per page: hits of people (not of robots and scripts) in the long window."""
    used = hits.filter(hits.aside.isnull(), hits.page_id.notnull())
    inside_long = used.time.between(ibis.literal(windows.long.start, "date"), ibis.literal(windows.long.end, "date"))
    return used.filter(inside_long).group_by("page_id").aggregate(hits=_.count())


def link_sums(links: ibis.Table) -> ibis.Table:
    """One row per page: from how many other pages of the site a link leads to it."""
    used = links.filter(links.aside.isnull(), links.source_id.notnull(), links.target_id.notnull(), links.source_id != links.target_id)
    return used.select("source_id", "target_id").distinct().group_by("target_id").aggregate(links=_.count())


def site_days(search: ibis.Table) -> ibis.Table:
    """One row per day of all used rows: date, clicks, impressions."""
    rows = page_rows(search)
    return (
        rows.group_by("date")
        .aggregate(clicks=rows.clicks.sum().cast("int64"), impressions=rows.impressions.sum().cast("int64"))
        .order_by("date")
    )


def visit_days(landings: ibis.Table) -> ibis.Table:
    """One row per day of all used rows: date, sessions, organic (sessions from search; null where the rows name no channel)."""
    used = landings.filter(landings.aside.isnull(), ~landings.undated)
    organic = ibis.cases((used.organic, used.sessions), (used.organic.isnull(), ibis.null("int64")), else_=0)
    return (
        used.group_by("date")
        .aggregate(sessions=used.sessions.sum().cast("float64"), organic=organic.sum().cast("float64"))
        .order_by("date")
    )


def cells(search: ibis.Table, windows: Windows, brand: list[str], *, paired: bool) -> ibis.Table:
    """Pairs cut by kind of search, bin of log position and period, for the curve and what it expects.

    One row per (page_id, query, device, surface, brand, bin, period); period is recent, reference, long (its rest) or older.
    Without any pairs (`paired` false) page rows stand in with an empty query: a page is then judged as if one query made it.
    """
    rows = pair_rows(search) if paired else page_rows(search).mutate(query=ibis.literal(""))
    position = ibis.cases((rows.placed > 0, rows.position_sum / rows.placed.nullif(0)), else_=ibis.null("float64"))
    period = ibis.cases(
        (inside(rows, windows.recent), "recent"),
        (inside(rows, windows.reference), "reference"),
        (inside(rows, windows.long), "long"),
        else_="older",
    )
    rows = rows.mutate(
        device=rows.device.fill_null(""),
        surface=rows.surface.fill_null(""),
        brand=is_brand(rows["query"], brand),
        period=period,
        bin=ibis.least(46, (position.ln() * 10).floor()).cast("int32"),
    )
    return rows.group_by("page_id", "query", "device", "surface", "brand", "bin", "period").aggregate(
        clicks=_.clicks.sum().cast("int64"),
        impressions=_.impressions.sum().cast("int64"),
        position_sum=_.position_sum.sum(),
        placed=_.placed.sum().cast("int64"),
    )


def pair_days(search: ibis.Table, windows: Windows) -> ibis.Table:
    """One row per (page_id, query): days, on which it was seen in the recent window."""
    rows = pair_rows(search)
    rows = rows.filter(inside(rows, windows.recent), rows.impressions > 0)
    return rows.select("page_id", "query", "date").distinct().group_by("page_id", "query").aggregate(days=_.count())


def is_brand(query: Any, brand: list[str]) -> Any:
    """Whether a query names the brand, with or without the blank between its words."""
    condition: Any = ibis.literal(False)
    text = query.lower()
    for word in sorted({word.lower() for word in brand if word.strip()}):
        condition = condition | text.contains(word)
    return condition


def daily_leaders(search: ibis.Table, windows: Windows, pages: ibis.Table) -> ibis.Table:
    """One row per (query, date, page_id) of the recent window for the pages named: impressions, position."""
    rows = pair_rows(search)
    rows = rows.filter(inside(rows, windows.recent)).semi_join(pages, "page_id")
    sums = rows.group_by("query", "date", "page_id").aggregate(
        impressions=_.impressions.sum().cast("int64"), position_sum=_.position_sum.sum(), placed=_.placed.sum()
    )
    return sums.mutate(position=sums.position_sum / sums.placed.nullif(0)).drop("position_sum", "placed")
