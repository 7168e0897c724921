"""The aggregation of rows to pages, pairs, weeks and cells, as expressions evaluated in the engine."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import date, timedelta
from typing import Any, NamedTuple

import ibis
from ibis import _

from nibbet.core.balanced import any_of, stacked
from nibbet.core.bins import BINS, BINS_PER_E
from nibbet.core.windows import Span, Window, Windows

#: expected clicks are integer multiples of 1 / FINEST, so that their sums are exact and independent of the order of rows
FINEST = 2.0**30
#: days per word of the bit mask of active days
WORD_DAYS = 48
ALWAYS = Window(date(1, 1, 1), date(9999, 12, 31))
SUMS = ("clicks", "impressions", "position_sum", "placed")
VISITS = ("sessions", "engaged_sessions", "engagement_seconds", "conversions", "revenue")


class Rates(NamedTuple):
    """The CTR curve in the engine. curve: device, surface, brand, bin, rate, slope; countries: country, level, or None where all are equal."""

    curve: ibis.Table
    countries: ibis.Table | None


def inside(table: ibis.Table, window: Window, role: str = "page") -> Any:
    """Whether a row serves the window: by its day or, where periods serve the window, by its period.

    Args:
        role: what the rows represent: page (totals of pages), pair (queries of pages) or visits; see `core.windows.Span`.
    """
    days = table.date.between(ibis.literal(window.start, "date"), ibis.literal(window.end, "date"))
    if "undated" not in table.columns:
        return days
    spans = [span for span in window.spans if span.role == role]
    return any_of([_is_of(table, span) for span in spans]) if spans else days & ~table.undated


def _is_of(table: ibis.Table, span: Span) -> Any:
    """Whether a row belongs to the period, in its grain."""
    same = (table.start == ibis.literal(span.start, "date")) & (table.date == ibis.literal(span.end, "date"))
    return table.undated & same & ((table.grain == span.grain) if span.role != "visits" else ibis.literal(True))


def windowed(
    table: ibis.Table, wanted: Mapping[str, tuple[Window, Sequence[str]]], by: Sequence[str], *, role: str = "page", **first: Any
) -> ibis.Table:
    """Sums per window: columns NAME_WINDOW, one row per key; rows of a period count in the windows that it serves.

    Each row is added once, to its stretch of days (a new one begins wherever a window begins or has ended) or to its period; then
    stretches and periods are added to windows. All days together contain each period once: see `core.join.rows`.

    Args:
        wanted: label -> window and the measures summed in it; first: days of which the earliest is returned; role: see `inside`.
    """
    bounds = [window for window, _ in wanted.values() if window != ALWAYS]
    edges = sorted({edge for window in bounds for edge in (window.start, window.end + timedelta(days=1))})
    spans = sorted({span for window in bounds for span in window.spans if span.role == role})
    stretch = sum(((table.date >= ibis.literal(edge, "date")).cast("int16") for edge in edges), ibis.literal(0, "int16")).cast("int16")
    if "undated" in table.columns:
        of_period = [(_is_of(table, span), ibis.literal(-2 - number, "int16")) for number, span in enumerate(spans)]
        stretch = ibis.cases(*of_period, (table.undated, ibis.literal(-1, "int16")), else_=stretch).cast("int16")
    nested = table.nested if "nested" in table.columns else ibis.literal(False)
    names = dict.fromkeys(name for _, names in wanted.values() for name in names)
    days = {name: day.min() for name, day in first.items()}
    parts = table.group_by(*by, stretch=stretch, nested=nested).aggregate(**{name: exact_sum(table[name]) for name in names}, **days)
    sums: dict[str, Any] = {}
    for label, (window, names_of) in wanted.items():
        inside = [-2 - number for number, span in enumerate(spans) if span in window.spans]
        stretches = inside or [number + 1 for number, edge in enumerate(edges) if window.start <= edge <= window.end]
        where = ~parts.nested if window == ALWAYS else parts.stretch.isin(stretches)
        sums |= {f"{name}_{label}": exact_sum(parts[name], where) for name in names_of}
    return parts.group_by(*by).aggregate(**sums, **{name: parts[name].min() for name in days})


@ibis.udf.agg.builtin(signature=(("int64",), "int64"))
def bit_or(marks):  # type: ignore[no-untyped-def]
    """All bit masks of a group in one number."""


def whole_sum(column: Any) -> Any:
    """The sum of whole numbers, added as floats: exact to 2^53, and no wider than a file can hold."""
    return column.cast("float64").sum().cast("int64")


def exact_sum(column: Any, where: Any = None) -> Any:
    """The sum of a measure over the rows that meet a condition; whole numbers are added as floats, which is fast, and exact to 2^53."""
    kind, nothing = column.type(), 0 if column.type().is_decimal() else 0.0
    addend = column if kind.is_decimal() else column.cast("float64")
    total = (addend if where is None else ibis.cases((where, addend), else_=nothing)).sum()
    return total if kind.is_floating() else total.cast(kind)


def page_rows(search: ibis.Table) -> ibis.Table:
    """Rows that make up the totals of pages: page rows, query rows on days without page rows, and rows of periods, of
    which each window takes those that serve it.
    """
    return search.filter(search.used & (~search.detail | search.undated))


def surface_rows(search: ibis.Table) -> ibis.Table:
    """As `page_rows`, including surfaces that do not count toward pages."""
    return search.filter((search.used | search.apart) & (~search.detail | search.undated))


def pair_rows(search: ibis.Table) -> ibis.Table:
    """Rows with both page and query."""
    return search.filter(search.used & (search.grain == "pair") & search["query"].notnull())


def query_rows(search: ibis.Table) -> ibis.Table:
    """Totals of queries, which name no page; page_id is a number for the query, with which the curve separates unusual ones."""
    rows = search.filter(search.free & (search.grain == "query") & search["query"].notnull())
    return rows.mutate(page_id=(rows["query"].hash().cast("decimal(20,0)") % 1_000_003).abs().cast("int64"))


def subject_rows(search: ibis.Table, of: str) -> ibis.Table:
    """The rows of pairs (`of` pair), totals of pages with an empty query (page), or totals of queries (query)."""
    if of == "page":
        return page_rows(search).mutate(query=ibis.literal(""))
    return pair_rows(search) if of == "pair" else query_rows(search)


def page_sums(search: ibis.Table, windows: Windows) -> ibis.Table:
    """One row per page: clicks, impressions, position_sum and placed as the ledger needs them, in the recent, reference and long windows and
    the last four weeks; clicks_all; first_seen: the first day of its dated rows, null where it has none.
    """
    rows = page_rows(search)
    sums = {
        "recent": (windows.recent, SUMS),
        "reference": (windows.reference, SUMS),
        "long": (windows.long, ("clicks", "impressions")),
        "last28": (Window(windows.as_of - timedelta(days=27), windows.as_of), ("clicks",)),
        "all": (ALWAYS, ("clicks",)),
    }
    first = ibis.cases((rows.undated, ibis.null("date")), else_=rows.date)
    return windowed(rows, sums, ["page_id"], first_seen=first)


def last_days(search: ibis.Table, landings: ibis.Table | None, hits: ibis.Table | None, wanted: ibis.Table) -> ibis.Table:
    """page_id, last: the last day on which a page was shown in search, visited from any channel or requested by people; pages used
    on no known day are left out. wanted: page_id of the pages in question.
    """
    shown = page_rows(search).filter(~_.undated, (_.impressions > 0) | (_.clicks > 0))
    parts = [shown.select("page_id", day=shown.date)]
    if landings is not None:
        visited = landings.filter(landings.used, landings.sessions > 0)
        visited = visited.filter(~visited.undated) if "undated" in visited.columns else visited
        parts.append(visited.select("page_id", day=visited.date))
    if hits is not None:
        requested = hits.filter(hits.aside.isnull(), hits.page_id.notnull())
        parts.append(requested.select("page_id", day=requested.time.cast("date")))
    days = [part.semi_join(wanted, "page_id").group_by("page_id").aggregate(last=_.day.max()) for part in parts]
    return stacked(days).group_by("page_id").aggregate(last=_.last.max())


def visit_sums(landings: ibis.Table, windows: Windows) -> ibis.Table:
    """One row per page: sums of the visits over all channels, and of organic sessions, in the recent and long windows; sessions_all."""
    used = landings.filter(landings.used)
    organic = used.organic.fill_null(False)
    used = used.mutate(
        **{name: used[name].fill_null(0) for name in VISITS},
        sessions_organic=ibis.cases((organic, used.sessions.fill_null(0)), else_=0),
        engaged_organic=ibis.cases((organic, used.engaged_sessions.fill_null(0)), else_=0),
        conversions_organic=ibis.cases((organic, used.conversions.fill_null(0)), else_=0),
        revenue_organic=ibis.cases((organic, used.revenue.fill_null(0)), else_=ibis.literal(0).cast(used.revenue.type())),
        single_page_sessions=used.single_page_sessions.fill_null(0),
        sessions_single=ibis.cases((used.single_page_sessions.notnull(), used.sessions.fill_null(0)), else_=0),
    )
    names = (
        *VISITS,
        "sessions_organic",
        "engaged_organic",
        "single_page_sessions",
        "sessions_single",
        "conversions_organic",
        "revenue_organic",
    )
    return windowed(
        used, {"recent": (windows.recent, names), "long": (windows.long, names), "all": (ALWAYS, ("sessions",))}, ["page_id"], role="visits"
    )


def visit_windows(landings: ibis.Table, windows: Windows, *by: str) -> ibis.Table:
    """One row per page_id, channel, device ... (`by`): sessions, engaged sessions, conversions, and all three of organic visits, recent and
    reference.
    """
    used = landings.filter(landings.used)
    organic = used.organic.fill_null(False)
    names = ("sessions", "engaged_sessions", "conversions")
    used = used.mutate(**{name: used[name].fill_null(0) for name in names})
    of_search = {"sessions": "sessions_organic", "engaged_sessions": "engaged_organic", "conversions": "conversions_organic"}
    used = used.mutate(**{mine: ibis.cases((organic, used[name]), else_=0) for name, mine in of_search.items()})
    wanted = (*names, *of_search.values())
    return windowed(used, {"recent": (windows.recent, wanted), "reference": (windows.reference, wanted)}, list(by), role="visits")


def visit_splits(landings: ibis.Table, windows: Windows, dimension: str) -> ibis.Table:
    """One row per page_id and value of channel, device or country (`dimension`; "" where unknown): VISITS of both windows."""
    used = landings.filter(landings.used)
    used = used.mutate(value=used[dimension].fill_null(""), **{name: used[name].fill_null(0) for name in VISITS})
    wanted = {"recent": (windows.recent, VISITS), "reference": (windows.reference, VISITS)}
    return windowed(used, wanted, ["page_id", "value"], role="visits")


def source_sums(landings: ibis.Table, windows: Windows) -> ibis.Table:
    """One row per page_id, channel and source ("" where unknown): VISITS of both windows."""
    used = landings.filter(landings.used)
    texts = {name: used[name].fill_null("") for name in ("channel", "source")}
    used = used.mutate(**texts, **{name: used[name].fill_null(0) for name in VISITS})
    return windowed(
        used, {"recent": (windows.recent, VISITS), "reference": (windows.reference, VISITS)}, ["page_id", *texts], role="visits"
    )


def channel_sums(landings: ibis.Table, windows: Windows) -> ibis.Table:
    """One row per page_id and channel ("" where unknown) of the recent window: VISITS and, where given, views and users."""
    rows = landings.filter(landings.used).mutate(channel=landings.channel.fill_null(""))
    names = [name for name in (*VISITS, "users", "views") if name in rows.columns]
    sums = {name: exact_sum(rows[name].fill_null(0), inside(rows, windows.recent, "visits")) for name in names}
    return rows.group_by("page_id", "channel").aggregate(**sums)


def hit_sums(hits: ibis.Table, windows: Windows) -> ibis.Table:
    """One row per page: hits of people (not of robots and scripts) in the long window, and the first day of them; fails, those that found no
    page (404 or 410) after the last that found it, and fails_as, their status.
    """
    used = hits.filter(hits.aside.isnull(), hits.page_id.notnull())
    inside_long = used.time.between(ibis.literal(windows.long.start, "date"), ibis.literal(windows.long.end, "date"))
    rows = used.filter(inside_long).select("page_id", "time", "status")
    rows = rows.mutate(failed=rows.status.isin([404, 410]), served=ibis.cases((rows.status.fill_null(200) < 400, rows.time)))
    served = rows.group_by("page_id").aggregate(hits=_.count(), first=_.time.cast("date").min(), served=_.served.max())
    since = rows.filter(rows.failed).inner_join(served.select("page_id", last="served"), "page_id")
    fails = since.filter(since.last.isnull() | (since.time > since.last)).group_by("page_id")
    counted = fails.aggregate(fails=_.count(), fails_as=_.status.max()).select("fails", "fails_as", of="page_id")
    return served.left_join(counted, served.page_id == counted.of).select("page_id", "hits", "first", "fails", "fails_as")


def robot_fetches(hits: ibis.Table, agents: Sequence[str]) -> ibis.Table:
    """page_id, fetches: fetches of each page by robots, those of `agents` or, without any, all that identify as robots."""
    names = "|".join(re.escape(agent.lower()) for agent in agents) or "bot|crawl|spider"
    fetched = hits.filter(hits.page_id.notnull(), hits.agent.lower().re_search(names), hits.status.fill_null(200) < 400)
    return fetched.group_by("page_id").aggregate(fetches=_.count())


def event_sums(events: ibis.Table, windows: Windows, step: str) -> ibis.Table:
    """page_id, event, count, count_reference: events of both windows; those of a period count where its middle lies.

    Args:
        step: day, week or month: the span of a row from its date on; it counts where its middle lies.
    """
    used = events.filter(events.aside.isnull(), events.page_id.notnull(), events.event.notnull())
    middle = (used.date + ibis.interval(days={"day": 0, "week": 3, "month": 14}[step])).cast("date")
    halfway = used.date.epoch_seconds() / 2 + used.start.epoch_seconds() / 2
    day = ibis.cases((used.undated, halfway.cast("int64").as_timestamp("s").cast("date")), else_=middle)
    counts = {}
    for name, window in (("count", windows.recent), ("count_reference", windows.reference)):
        in_window = day.between(ibis.literal(window.start, "date"), ibis.literal(window.end, "date"))
        counts[name] = exact_sum(used["count"].fill_null(0), in_window)
    return used.group_by("page_id", "event").aggregate(**counts)


def missed_hits(hits: ibis.Table, windows: Windows) -> ibis.Table:
    """path, hits: requests by people for each address in the long window.

    Args:
        hits: those on addresses that are no page in any source.
    """
    inside_long = hits.time.between(ibis.literal(windows.long.start, "date"), ibis.literal(windows.long.end, "date"))
    return hits.filter(inside_long).group_by("path").aggregate(hits=_.count())


def curve_rows(search: ibis.Table, windows: Windows, *, of: str, every: int = 1) -> ibis.Table:
    """The rows from which the CTR curve and the levels of countries are learnt: one row per (country, device, surface, brand, bin, page) of
    the long window: clicks, impressions.

    Args:
        of: which rows are used: pair, page or query; see `subject_rows`.
        every: one page in so many is used, which suffices for a site of a million pages.
    """
    rows = _with_bins(subject_rows(search, of))
    shown = inside(rows, windows.long, of)
    if windows.reference_kind == "before" or not windows.serves(windows.long, of):
        shown = shown | inside(rows, windows.reference, of)
    if not windows.serves(windows.long, of):  # query rows often cover a shorter period than page rows
        shown = shown | inside(rows, windows.recent, of)
    rows = rows.filter(shown, rows.placed > 0)
    if windows.counted_since is not None:
        first = ibis.cases((rows.undated, rows.start), else_=rows.date) if "undated" in rows.columns else rows.date
        rows = rows.filter(first >= ibis.literal(windows.counted_since, "date"))
    rows = rows.filter(rows.page_id % every == 0) if every > 1 else rows
    rows = rows.mutate(country=rows.country.fill_null(""), page=rows.page_id)
    return _cells(rows, "country", "device", "surface", "brand", "bin", "page")


def curve_cells(learnt_from: ibis.Table) -> ibis.Table:
    """The rows of `curve_rows` summed over countries."""
    return _cells(learnt_from, "device", "surface", "brand", "bin", "page")


def country_cells(learnt_from: ibis.Table) -> ibis.Table:
    """The rows of `curve_rows` summed over pages."""
    return _cells(learnt_from, "country", "device", "surface", "brand", "bin")


def _cells(rows: ibis.Table, *by: str) -> ibis.Table:
    return rows.group_by(*by).aggregate(clicks=whole_sum(rows.clicks), impressions=whole_sum(rows.impressions))


def pair_sums(search: ibis.Table, windows: Windows, rates: Rates, *, of: str) -> ibis.Table:
    """One row per (page, query) of the recent or reference window.

    Args:
        rates: the CTR curve.
        of: which rows are summed, see `subject_rows`: page rows have an empty query, and a page is then judged as if it had one query.
    Returns:
        page, query, brand, then clicks, impressions, position_sum, placed and expected_clicks of the recent window and, with the suffix
        `_reference`, of the other; seen_0, seen_1, ...: a bit for each day of the recent window with impressions.
    """
    now, then = windows.recent, windows.reference
    rows = _rated(search, rates, [now, then], of=of)
    sums = {name: exact_sum(rows[name], inside(rows, now, of)) for name in (*SUMS, "expected_clicks")}
    sums |= {f"{name}_reference": exact_sum(rows[name], inside(rows, then, of)) for name in (*SUMS, "expected_clicks")}
    day = rows.date.delta(ibis.literal(now.start, "date"), unit="day")
    for word in range(-(-now.days // WORD_DAYS)):
        bit = day - word * WORD_DAYS
        mark = ibis.cases(
            (bit.between(0, WORD_DAYS - 1) & (day < now.days) & (rows.impressions > 0) & ~rows.coarse, ibis.literal(2.0) ** bit), else_=0
        )
        sums[f"seen_{word}"] = bit_or(mark.cast("int64"))
    return rows.group_by("query", page=rows.page_id).aggregate(brand=rows.brand.any(), **sums)


def numbered(pairs: ibis.Table, more: ibis.Table | None = None) -> ibis.Table:
    """query, query_id: all queries of the pairs, and of `more` (query), numbered from 0 in alphabetical order."""
    queries = pairs.select("query").distinct()
    if more is not None:
        queries = queries.union(more, distinct=True)
    return queries.mutate(query_id=ibis.row_number().over(order_by=queries["query"]).cast("int32")).order_by("query_id")


def coded(pairs: ibis.Table, numbers: ibis.Table) -> ibis.Table:
    """The pairs with the number of their query in place of its text: by page, impressions and query.

    Args:
        numbers: query, query_id.
    """
    return pairs.join(numbers, "query").drop("query").order_by("page", ibis.desc("impressions"), "query_id")


def _rated(search: ibis.Table, rates: Rates, windows: Sequence[Window], *, of: str) -> ibis.Table:
    """Rows of these windows with expected_clicks, by the CTR curve."""
    rows = _with_bins(subject_rows(search, of))
    rows = rows.filter(any_of([inside(rows, window, of) for window in windows]))
    known = rates.curve.rename({f"{name}_of_rate": name for name in ("device", "surface", "brand", "bin")})
    rows = rows.left_join(
        known,
        [
            rows.device == known.device_of_rate,
            rows.surface == known.surface_of_rate,
            rows.brand == known.brand_of_rate,
            rows.bin == known.bin_of_rate,
        ],
    )
    # the curve between the middles of its bins, in multiples of 1 / FINEST, so that sums do not depend on the order of rows
    offset = (rows.log_place * BINS_PER_E - rows.bin - 0.5) / BINS_PER_E * rows.slope
    level: Any = 1.0
    if rates.countries is not None:
        levels = rates.countries.rename(country_of_level="country")
        rows = rows.left_join(levels, rows.country == levels.country_of_level)
        offset = (rows.log_place * BINS_PER_E - rows.bin - 0.5) / BINS_PER_E * rows.slope
        level = rows.level.fill_null(1.0)
    expected = (rows.impressions.cast("float64") * rows.rate * (offset + 1.0) * level * FINEST).round().cast("float64") / FINEST
    return rows.mutate(expected_clicks=expected.fill_null(0.0))


def segment_sums(search: ibis.Table, windows: Windows, rates: Rates, dimension: str, *, of: str) -> ibis.Table:
    """One row per page_id and value of device, country or surface in the recent window, without the brand: clicks, impressions,
    position_sum, placed, expected_clicks.
    """
    rows = _rated(search, rates, [windows.recent], of=of)
    rows = rows.filter(~rows.brand.fill_null(False))
    rows = rows.mutate(value=_named(rows, dimension))
    return rows.group_by("page_id", "value").aggregate(
        clicks=whole_sum(_.clicks),
        impressions=whole_sum(_.impressions),
        position_sum=_.position_sum.sum().cast("float64"),
        placed=whole_sum(_.placed),
        expected_clicks=_.expected_clicks.sum(),
    )


def around(search: ibis.Table, places: ibis.Table, window: Window, rates: Rates, *, of: str) -> ibis.Table:
    """One row per page with days before and days after, without the brand: clicks, impressions, position_sum, placed and expected_clicks of
    each.

    Args:
        places: page, before_first, before_last, after_first, after_last; window: contains them all. Only dated rows count.
    """
    rows = _rated(search, rates, [window], of=of)
    rows = rows.filter(~rows.brand.fill_null(False) & ~rows.coarse & ~rows.undated)
    rows = rows.inner_join(places, rows.page_id == places.page)
    sides = {side: rows.date.between(rows[f"{side}_first"], rows[f"{side}_last"]) for side in ("before", "after")}
    sums = {f"{name}_{side}": exact_sum(rows[name], where) for side, where in sides.items() for name in (*SUMS, "expected_clicks")}
    return rows.group_by("page").aggregate(**sums)


def _named(rows: ibis.Table, dimension: str) -> Any:
    """The device, country or surface of each row; "" where missing, but web for surfaces."""
    value = rows[dimension].nullif("")
    return value.fill_null("web" if dimension == "surface" else "")


def asked_from(search: ibis.Table, queries: ibis.Table, window: Window) -> ibis.Table:
    """One row per country ("" where unknown) and query of `queries` (its column wanted) in a window: clicks, impressions, position_sum,
    placed.
    """
    rows = pair_rows(search)
    rows = rows.filter(inside(rows, window, "pair")).mutate(country=rows.country.cast("string").fill_null(""))
    rows = rows.join(queries, rows["query"] == queries.wanted)
    return rows.group_by("country", "query").aggregate(**{name: exact_sum(rows[name]) for name in SUMS})


def _with_bins(rows: ibis.Table) -> ibis.Table:
    """The rows with device and surface never null, and bin of their position (null where unknown)."""
    log_place = ibis.cases((rows.position > 1, rows.position), else_=1.0).ln()
    place = (log_place * BINS_PER_E).floor().cast("int32")
    number = ibis.cases((rows.placed == 0, ibis.null("int32")), (place >= BINS, ibis.literal(BINS - 1, "int32")), else_=place)
    return rows.mutate(device=rows.device.fill_null(""), surface=rows.surface.fill_null(""), bin=number, log_place=log_place)


def with_detail(rows: ibis.Table, pages: ibis.Table, detail: str) -> ibis.Table:
    """Search or landing rows for display: their page by its address, and set_aside, the reason why a row does not count (null where it
    does).
    """
    hidden = {
        "brand",
        "free",
        "used",
        "undated",
        "file",
        "layer",
        "placed",
        "start",
        "nested",
        "coarse",
        "position_sum",
        "detail",
        "page_key",
        "aside",
        "apart",
    }
    aside = ibis.cases((rows.detail & rows.aside.isnull(), detail), else_=rows.aside) if "detail" in rows.columns else rows.aside
    money = {name: rows[name].cast("float64") for name in rows.columns if rows[name].type().is_decimal()}
    return named(rows.mutate(set_aside=aside, **money).drop(*[name for name in rows.columns if name in hidden]), pages)


def named(table: ibis.Table, pages: ibis.Table) -> ibis.Table:
    """The table with page (address) in place of page_id."""
    known = pages.select("number", "page")
    joined = table.left_join(known, table.page_id == known.number)
    rest = [name for name in table.columns if name != "page_id"]
    return joined.select("page", *rest)


def splits(search: ibis.Table, windows: Windows, dimension: str) -> ibis.Table:
    """One row per page and value of device, country or surface (`dimension`; "" where unknown, web for surfaces): sums of the recent and reference windows."""
    rows = surface_rows(search) if dimension == "surface" else page_rows(search)
    rows = rows.filter(inside(rows, windows.recent) | inside(rows, windows.reference))
    two = {"recent": (windows.recent, SUMS), "reference": (windows.reference, SUMS)}
    sums = windowed(rows.mutate(value=_named(rows, dimension)), two, ["page_id", "value"])
    place = {suffix: sums[f"position_sum{suffix}"] / sums[f"placed{suffix}"].nullif(0) for suffix in ("_recent", "_reference")}
    return sums.select(
        "page_id",
        "value",
        clicks="clicks_recent",
        impressions="impressions_recent",
        position=place["_recent"],
        clicks_reference="clicks_reference",
        impressions_reference="impressions_reference",
        position_reference=place["_reference"],
    )


def daily_leaders(search: ibis.Table, windows: Windows, pages: ibis.Table) -> ibis.Table:
    """One row per (query, date, page_id) of the recent window for these pages: impressions, position."""
    rows = pair_rows(search)
    rows = rows.filter(inside(rows, windows.recent, "pair") & ~rows.coarse).semi_join(pages, "page_id")
    sums = rows.group_by("query", "date", "page_id").aggregate(
        impressions=whole_sum(_.impressions), position_sum=_.position_sum.sum(), placed=_.placed.sum()
    )
    return sums.mutate(position=sums.position_sum / sums.placed.nullif(0)).drop("position_sum", "placed")
