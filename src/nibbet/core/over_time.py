"""Sums by day and week, as expressions evaluated in the engine."""

from __future__ import annotations

from datetime import date

import ibis
from ibis import _

from nibbet.core.reduce import inside, page_rows, pair_rows, whole_sum
from nibbet.core.windows import Window


def visit_days(landings: ibis.Table) -> ibis.Table:
    """One row per day of all used rows: date, sessions, organic (sessions from search; null where the rows name no channel)."""
    used = landings.filter(landings.used, ~landings.coarse)
    organic = ibis.cases((used.organic, used.sessions), (used.organic.isnull(), ibis.null("int64")), else_=0)
    return (
        used.group_by("date")
        .aggregate(sessions=used.sessions.sum().cast("float64"), organic=organic.sum().cast("float64"))
        .order_by("date")
    )


def page_weeks(search: ibis.Table) -> ibis.Table:
    """One row per (page_id, week): week (its Monday), clicks, impressions, position (mean over impressions); rows of months and periods left out."""
    rows = page_rows(search).filter(~_.coarse)
    return rows.group_by("page_id", week=rows.date.truncate("W").cast("date")).aggregate(
        clicks=whole_sum(_.clicks),
        impressions=whole_sum(_.impressions),
        position=_.position_sum.sum() / _.placed.sum().nullif(0),
    )


def weeks_back(search: ibis.Table, as_of: date) -> ibis.Table:
    """One row per (page_id, back): clicks of whole weeks, counted back from the one that ends with `as_of` (0)."""
    rows = page_rows(search).filter(~_.coarse)
    back = (ibis.literal(as_of, "date").delta(rows.date, unit="day") / 7).floor().cast("int32")
    return rows.mutate(back=back).filter(_.back >= 0).group_by("page_id", "back").aggregate(clicks=whole_sum(_.clicks))


def topic_weeks(search: ibis.Table, topics: ibis.Table, as_of: date) -> ibis.Table:
    """One row per (topic, back): clicks of whole weeks, counted back from the one that ends with `as_of` (0).

    Args:
        topics: wanted (query), topic (number).
    """
    rows = pair_rows(search).filter(~_.coarse)
    back = (ibis.literal(as_of, "date").delta(rows.date, unit="day") / 7).floor().cast("int32")
    rows = rows.mutate(back=back).filter(_.back >= 0)
    rows = rows.group_by("query", "back").aggregate(clicks=whole_sum(_.clicks))
    return rows.join(topics, rows["query"] == topics.wanted).group_by("topic", "back").aggregate(clicks=whole_sum(_.clicks))


def page_days(search: ibis.Table) -> ibis.Table:
    """One row per (page_id, date): clicks, impressions, position (mean over impressions)."""
    rows = page_rows(search).filter(~_.coarse)
    return rows.group_by("page_id", "date").aggregate(
        clicks=whole_sum(_.clicks),
        impressions=whole_sum(_.impressions),
        position=_.position_sum.sum() / _.placed.sum().nullif(0),
    )


def weekends(search: ibis.Table, window: Window) -> ibis.Table:
    """One row per page_id in whole days of the window: clicks, weekend (those of Saturdays and Sundays)."""
    rows = page_rows(search)
    rows = rows.filter(~rows.coarse, inside(rows, window))
    free = ibis.cases((rows.date.day_of_week.index() >= 5, rows.clicks), else_=0)
    return rows.group_by("page_id").aggregate(clicks=whole_sum(rows.clicks), weekend=whole_sum(free))


def section_days(search: ibis.Table, pages: ibis.Table) -> ibis.Table:
    """One row per (section, date): clicks, impressions.

    Args:
        pages: number, section.
    """
    rows = page_rows(search).filter(~_.coarse)
    joined = rows.join(pages, rows.page_id == pages.number)
    return joined.group_by("section", "date").aggregate(clicks=whole_sum(_.clicks), impressions=whole_sum(_.impressions))
