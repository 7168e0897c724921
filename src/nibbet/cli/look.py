"""Commands for details: one page, one query, parts of the site, changes, questions in SQL."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
import typer.core

from nibbet.cli.app import app
from nibbet.cli.opening import chosen_rows, harmless, with_site
from nibbet.cli.options import (
    AsOf,
    Counted,
    Dimension,
    Folder,
    Form,
    Format,
    Level,
    Quiet,
    Rise,
    SiteFolder,
    Top,
    Verbose,
    Where,
)
from nibbet.errors import NibbetError

if TYPE_CHECKING:
    import pandas as pd

    from nibbet.core.windows import Windows
    from nibbet.site import Site


@app.command(short_help="Everything about one page.")
def page(
    address: Annotated[str, typer.Argument(help="The page: whole address or path.")],
    form: Format = Form.table,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Print everything about one page: its verdict and why, its measures, its queries."""
    from nibbet.render.views import show_page

    show_page(with_site(None, site, quiet, verbose, lambda s: s.page(address), as_of=as_of), form.value)


@app.command(short_help="Everything about one query.")
def query(
    text: Annotated[str | None, typer.Argument(help="The query.", show_default=False)] = None,
    like: Annotated[
        list[str] | None,
        typer.Option(
            "--like", metavar="WORDS", help='All queries with these words, or with an RE2 expression such as "re:^how ". Repeatable.'
        ),
    ] = None,
    form: Format = Form.table,
    top: Top = None,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Print everything about one query: its totals, its topic, its pages and the one that should answer it. With --like, print a
    group of queries compared with all others: rates, change, its pages, and the queries that stand out. With neither, print the groups in
    nibbet.toml.
    """
    from nibbet.render.lists import show_group, show_groups
    from nibbet.render.views import show_query

    if text is not None and like:
        raise NibbetError("Give one query, or --like WORDS for a group of them, not both.")
    if like:
        group, windows = with_site(None, site, quiet, verbose, lambda s: (s.queries_like(*like), s.windows), as_of=as_of)
        show_group(group, windows, form.value, top or 12)
    elif text is None:
        show_groups(with_site(None, site, quiet, verbose, lambda s: s.query_groups(), as_of=as_of), form.value)
    else:
        rows, topics = with_site(None, site, quiet, verbose, lambda s: (s.query(text), s.topics()), as_of=as_of)
        show_query(rows, topics[topics["topic"].isin(rows["topic"])], form.value)


@app.command(short_help="Devices, countries, surfaces, channels and sources compared.")
def split(
    page: Annotated[str | None, typer.Argument(help="One page, by its address. Defaults to the whole site.", show_default=False)] = None,
    by: Annotated[Dimension | None, typer.Option("--by", help="One of them alone.")] = None,
    top: Top = None,
    form: Format = Form.table,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Print devices, countries, surfaces, channels and sources of visits: searches, visits, rates, and deviations from the same pages
    elsewhere.
    """
    from nibbet.render.lists import show_splits

    rows, windows = with_site(None, site, quiet, verbose, lambda s: (s.splits(page), s.windows), as_of=as_of)
    show_splits(rows if by is None else rows[rows["dimension"] == by.value], windows, form.value, top or 12)


@app.command(short_help="Broken and missing internal links.")
def links(
    folder: Folder = None,
    each: Annotated[bool, typer.Option("--broken", help="Only the broken links, one by one.")] = False,
    outside: Annotated[bool, typer.Option("--outside", help="Backlinks instead: linking sites, new, lost and failing links.")] = False,
    anchors: Annotated[
        bool, typer.Option("--anchors", help="Anchor texts of the links to each page instead, internal and external.")
    ] = False,
    where: Where = None,
    top: Top = None,
    form: Format = Form.table,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Print internal links that lead to faults or detours, by target, and missing links: from which page, with which words."""
    from nibbet.render.lists import NO_LINKS, show_backlinks, show_links
    from nibbet.render.terminal import show

    if each + outside + anchors > 1:
        raise NibbetError("--broken, --outside and --anchors are three lists. Give one of them.")
    if anchors:
        mixes = chosen_rows(with_site(folder, site, quiet, verbose, lambda s: s.anchors(), as_of=as_of), where, top)
        columns = [
            "page",
            "side",
            "links",
            "own_name",
            "keyword",
            "general",
            "brand_share",
            "top",
            "top_share",
            "usual_share",
            "flag",
            "missing",
        ]
        show(mixes, form.value, columns=columns, empty="No source tells of links with their words. Add one of kind links or backlinks.")
        return
    if outside:
        who, faults = with_site(folder, site, quiet, verbose, lambda s: (s.linking_hosts(), s.backlink_faults()), as_of=as_of)
        show_backlinks(who, chosen_rows(faults, where, None), form.value, top or 10)
        return

    broken, missing = with_site(folder, site, quiet, verbose, lambda s: (s.broken_links(), s.link_suggestions()), as_of=as_of)
    if each:
        show(chosen_rows(broken, where, top), form.value, empty=NO_LINKS)
        return
    show_links(broken, chosen_rows(missing, where, None), form.value, top or 10)


@dataclass(frozen=True)
class ListOptions:
    """Which rows of a list to print, in which form, and how many."""

    where: str | None
    form: str
    top: int | None

    def chosen(self, frame: pd.DataFrame) -> pd.DataFrame:
        """The requested rows; for tables, all that meet the condition, because their parts are cut one by one."""
        return chosen_rows(frame, self.where, None if self.form == Form.table.value else self.top)


Listing = Callable[["Site", ListOptions], Callable[[], None]]


def listing(short_help: str) -> Callable[[Listing], Listing]:
    """A command that reads tables of the site and prints them: the function reads, and returns a function that prints after the site is
    closed.
    """

    def registered(read: Listing) -> Listing:
        def command(
            folder: Folder = None,
            where: Where = None,
            top: Top = None,
            form: Format = Form.table,
            as_of: AsOf = None,
            site: SiteFolder = None,
            quiet: Quiet = False,
            verbose: Verbose = False,
        ) -> None:
            with_site(folder, site, quiet, verbose, lambda s: read(s, ListOptions(where, form.value, top)), as_of=as_of)()

        command.__doc__ = read.__doc__
        app.command(read.__name__, short_help=short_help)(command)
        return read

    return registered


@listing("Engagement and events, compared with similar pages.")
def engagement(s: Site, options: ListOptions) -> Callable[[], None]:
    """Print pages with high and low engagement by channel, and events that stand out, compared with similar pages."""
    from nibbet.render.lists import show_engagement

    stays, events = options.chosen(s.engagement()), s.event_rates()
    return lambda: show_engagement(stays, events, options.form, options.top or 5)


@listing("Countries and languages: demand, sales, what to translate.")
def markets(s: Site, options: ListOptions) -> Callable[[], None]:
    """Print countries and languages of queries, how visitors from there buy, and the value of pages in that language."""
    from nibbet.render.lists import show_markets

    rows, windows = options.chosen(s.markets()), s.windows
    return lambda: show_markets(rows, windows, options.form, options.top or 20)


@listing("Popular pages, what they share, and related ideas.")
def popular(s: Site, options: ListOptions) -> Callable[[], None]:
    """Print the pages with most views, longest visits and highest earnings, what they have in common, and related topics without an answer."""
    from nibbet.render.lists import show_popular

    rows, common, ideas, windows = options.chosen(s.popular()), s.popular_traits(), s.popular_ideas(), s.windows
    return lambda: show_popular(rows, common, ideas, windows, options.form, options.top or 5)


@listing("Speed of pages for visitors, and the cost of slowness.")
def speed(s: Site, options: ListOptions) -> Callable[[], None]:
    """Print how fast pages are at the 75th percentile of visits, poor ones with most clicks first, and whether they engage and convert
    less.
    """
    from nibbet.render.lists import show_speed

    rows, cost = options.chosen(s.speed()), s.speed_cost()
    return lambda: show_speed(rows, cost, options.form, options.top or 10)


@listing("Coming seasons, and what is evergreen, fading or over.")
def calendar(s: Site, options: ListOptions) -> Callable[[], None]:
    """Print coming seasons and when to be ready for them, and which pages and topics are evergreen, fading, growing or over."""
    from nibbet.render.lists import show_calendar

    rows, seasons, windows = options.chosen(s.lives()), s.seasons(), s.windows
    return lambda: show_calendar(rows, seasons, windows, options.form, options.top or 12)


@listing("Pages that matter and that search hardly shows.")
def absent(s: Site, options: ListOptions) -> Callable[[], None]:
    """Print pages that matter but that search hardly shows, by cause: error, blocked, not linked, never fetched, duplicate, too young ..."""
    from nibbet.render.lists import show_absent

    rows = options.chosen(s.absent())
    return lambda: show_absent(rows, options.form, options.top or 5)


@app.command(short_help="Effects of titles, and what to change first.")
def titles(
    folder: Folder = None,
    changes: Annotated[
        bool, typer.Option("--changes", help="Pages whose title or description changed between two inventories, with the effect.")
    ] = False,
    where: Where = None,
    top: Top = None,
    form: Format = Form.table,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Print the effects of traits of titles and descriptions on CTR on this site, and what to change first on which page."""
    from nibbet.render.lists import show_title_changes, show_titles

    def task(s: Site) -> tuple[pd.DataFrame, pd.DataFrame, Windows]:
        if changes:
            return s.title_changes(), s.table("title_trials"), s.windows
        return s.titles(), s.title_effects(), s.windows

    rows, effects, windows = with_site(folder, site, quiet, verbose, task, as_of=as_of)
    rows = chosen_rows(rows, where, None)
    if changes:
        show_title_changes(rows, effects, form.value, top or 10)
    else:
        show_titles(rows, effects, windows, form.value, top or 10)


@app.command(short_help="Visible hosts in the results, overall and by topic.")
def hosts(
    folder: Folder = None,
    topic: Annotated[str | None, typer.Option("--topic", metavar="TOPIC", help="One topic, by its label.")] = None,
    where: Where = None,
    top: Top = None,
    form: Format = Form.table,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Print the hosts in the result snapshots with their share of the clicks, and the topics in which the site does not appear."""
    from nibbet.render.lists import show_hosts

    rows = with_site(folder, site, quiet, verbose, lambda s: s.hosts(topic), as_of=as_of)
    show_hosts(chosen_rows(rows, where, None), topic, form.value, top or 10)


@app.command(short_help="What changed between two windows, and why.")
def compare(
    folder: Folder = None,
    recent: Annotated[
        str | None,
        typer.Option(metavar="DAYS|FROM..TO", help="The window: a number of days up to the last complete one, or two dates."),
    ] = None,
    against: Annotated[
        str | None, typer.Option(metavar="year|before|FROM..TO", help="The window of comparison; the year where the data reach that far.")
    ] = None,
    by: Annotated[Level | None, typer.Option("--by", help="Only this level.")] = None,
    order: Annotated[Counted, typer.Option("--order", help="Order by the change of clicks or of impressions.")] = Counted.clicks,
    form: Format = Form.table,
    where: Where = None,
    top: Top = None,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Print the changes between two windows: size, whether they are real, and their cause: demand, rank, pull, or pages that appeared or
    disappeared.
    """
    from nibbet.render.terminal import show
    from nibbet.render.views import show_changes

    def task(s: Site) -> tuple[pd.DataFrame, Windows, pd.DataFrame | None]:
        changes = s.compare(recent, against, by=by.value if by else None)
        if order is Counted.impressions:
            level, size = changes["level"].drop_duplicates().tolist(), changes["impressions_change"].abs()
            changes = changes.assign(nth=changes["level"].map(level.index), size=-size)
            changes = changes.sort_values(["nth", "size"], kind="stable", ignore_index=True).drop(columns=["nth", "size"])
        losses = s.losses(recent, against) if by is None else None
        return chosen_rows(changes, where, top if by else None), s.compared_windows(recent, against), losses

    rows, windows, losses = with_site(folder, site, quiet, verbose, task, as_of=as_of)
    if form is not Form.table:
        show(rows.head(top) if top else rows, form.value)
        return
    show_changes(rows, windows, losses, top=top)


@app.command(short_help="Queries and topics that are new, rise or fade.")
def rising(
    folder: Folder = None,
    days: Annotated[int, typer.Option("--days", min=1, help="Number of last days, compared with as many before.")] = 28,
    by: Annotated[Rise, typer.Option("--by", help="What rises.")] = Rise.query,
    form: Format = Form.table,
    top: Top = None,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Print queries or topics that are new, rise or fade beyond noise and season, and the page with most impressions for each."""
    from nibbet.render.lists import show_rising

    rows, windows = with_site(
        folder, site, quiet, verbose, lambda s: (s.rising(days, by=by.value), s.compared_windows(days, "before")), as_of=as_of
    )
    show_rising(rows, windows, form.value, top or 10)


@app.command("new", short_help="New pages, and how they start.")
def new_pages(
    folder: Folder = None,
    days: Annotated[int, typer.Option("--days", min=1, help="Pages first seen in the last days.")] = 90,
    form: Format = Form.table,
    where: Where = None,
    top: Top = None,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Print the pages that search first showed recently: their clicks since then, compared with earlier new pages at the same age."""
    from nibbet.render.terminal import show

    rows = with_site(folder, site, quiet, verbose, lambda s: chosen_rows(s.new_pages(days), where, top), as_of=as_of)
    columns = [
        "page",
        "first_seen",
        "age_weeks",
        "start_clicks",
        "start_low",
        "start_usual",
        "start_high",
        "start_rank",
        "position",
        "queries",
        "first_query",
    ]
    show(rows, form.value, columns=columns, empty=f"Search first showed no page in the last {days} days.")
    if form is Form.table and len(rows):
        sys.stdout.write(
            "start_low, start_usual, start_high: what nine, five and one of ten earlier new pages had more than at the same age, in clicks\n"
        )


@app.command(short_help="Your own questions over the joined tables.")
def sql(
    question: Annotated[
        str | None,
        typer.Argument(metavar="QUESTION", help="A SELECT, or the name of a saved question. Without it, lists the saved questions."),
    ] = None,
    values: Annotated[list[str] | None, typer.Option("--set", metavar="NAME=VALUE", help="The value of $NAME in the question.")] = None,
    tables: Annotated[bool, typer.Option("--tables", help="List all tables and columns.")] = False,
    out: Annotated[Path | None, typer.Option("--out", metavar="FILE", help="Write to a .csv, .parquet or .xlsx file.")] = None,
    form: Format = Form.table,
    top: Top = None,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Answer a question in SQL over the joined tables, read-only."""
    from nibbet.cli.questions import bound, find, listed
    from nibbet.render.files import write_table
    from nibbet.render.terminal import show

    folder = site or Path()
    if question is None and not tables:
        show(listed(folder), form.value)
        return
    given = bound(values or [])
    statement = find(folder, question or "")
    rows = with_site(None, site, quiet, verbose, lambda s: s.sql_tables() if tables else s.sql(statement, **given), as_of=as_of)
    result = rows if top is None else rows.head(top)
    if out is not None:
        write_table(result, out)
        sys.stderr.write(f"{len(result):,} rows written to {harmless(str(out))}\n")
        return
    show(result, form.value, empty="No row fits.")
