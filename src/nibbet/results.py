"""The output tables of a site, from the store or else from the pipeline."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

from nibbet.engine.store import key_of
from nibbet.errors import NotFoundError
from nibbet.kept import KeptTables, close_names
from nibbet.tables import NEW_SINCE

if TYPE_CHECKING:
    import pandas as pd

    from nibbet.core.curve import Curve
    from nibbet.core.windows import Windows
    from nibbet.pipeline import Pipeline
    from nibbet.pipeline.comparison import Comparison

Say = Callable[[str], None]


class Results(KeptTables):
    """One site: its sources joined by page, its measures, query map and verdicts, each computed on first use. See `nibbet.Site`."""

    # -- what was read -------------------------------------------------------------------------------------------------------------------

    @cached_property
    def account(self) -> dict[str, Any]:
        """The account of the join: per source rows and measures read = used + set aside; the share matched; notes with a code."""

        def make() -> dict[str, Any]:
            return self._pipeline.account.balance

        return dict(self._store.value("account", self._result_key, make))

    def load(self, *, fresh: bool = False) -> dict[str, Any]:
        """Read new files of the sources and compute every sum that later calls need; returns the account.

        fresh: clear the cache, and read everything again.
        """
        if fresh:
            self._store.clear()
        with self._store.locked():
            if not self._store.has("pairs", self._sources_key):
                self._pipeline.prepare()
            return self.account

    @property
    def addresses(self) -> pd.DataFrame:
        """Every spelling: spelling, page, reason, sources."""
        return self.table("addresses")

    @property
    def days(self) -> pd.DataFrame:
        """One row per complete day of the site: date, clicks, impressions."""
        return self._kept("site-days", lambda p: p.inputs.days)

    @property
    def curve(self) -> Curve:
        """The CTR curve of the site, learnt from the long window."""
        from nibbet.core.curve import Curve

        rates = self._kept("rates", lambda p: p.expectation.curve.rates)
        return Curve(rates, self._store.value("learnt", self._sources_key, lambda: self._pipeline.expectation.curve.learnt))

    # -- tables for people ---------------------------------------------------------------------------------------------------------------

    def pages(self) -> pd.DataFrame:
        """The ledger: one row per page with the columns of pages.csv, by address."""
        return self.table("pages")

    def ledger(self) -> pd.DataFrame:
        """The columns of pages.csv that need neither the query map nor a rule; much faster than `pages`."""
        from nibbet.core.tables import PAGES

        def make(p: Pipeline) -> pd.DataFrame:
            table = p.pages.table
            return table[[name for name in PAGES if name in table]].reset_index(drop=True)

        return self._kept("ledger", make)

    def queries(self) -> pd.DataFrame:
        """The query map: one row per page and query with the columns of queries.csv; withheld rows have an empty query."""
        return self.table("queries")

    def query_totals(self) -> pd.DataFrame:
        """One row per query of the recent window: pages, clicks, impressions, position, brand."""
        return self.table("query_totals")

    def query_groups(self) -> pd.DataFrame:
        """The groups in [groups.queries], and all other queries: totals, pull, shares, and the change, with intervals."""
        return self.table("query_groups")

    def group_queries(self) -> pd.DataFrame:
        """The queries of each named group, flagged where their pull deviates from that of the group, each at its own position."""
        return self.table("group_queries")

    def queries_like(self, *words: str) -> dict[str, Any]:
        """An ad-hoc group of queries, without a change of settings.

        Args:
            words: words or phrases, any of which makes a query a member (whole words, ignoring case and accents), or `re:` and an
                RE2 expression.
        Returns:
            rates: two rows, the group and all other queries; change: its row of the table of changes; queries, pages: frames.
        Raises NotFoundError where no query matches, ConfigError for an invalid expression.
        """
        result = self._pipeline.queries_like(words)
        if result["queries"].empty:
            raise NotFoundError(f"No query of the recent window has {' or '.join(f'{one!r}' for one in words)}. Try a shorter word.")
        return result

    def verdicts(self) -> pd.DataFrame:
        """One row per page that has a verdict: page, verdict, cause, target, gains, worth, confidence, because, also; by gain."""
        return self.table("verdicts")

    def openings(self) -> pd.DataFrame:
        """Clicks within reach: page, query, kind (climb, snippet, stray), position, clicks, expected_clicks, gain, gain_low, gain_high."""
        return self.table("openings")

    def groups(self) -> pd.DataFrame:
        """Merge groups: group, page, survivor, shared_impressions, overlap, turn_taking, and the net gain of the group."""
        return self.table("groups")

    def topics(self) -> pd.DataFrame:
        """Queries grouped so that one page can answer each group: topic, label, language (ISO code where it is
        asked in another than the site's), queries, volume, volume_kind (searches a month or
        impressions), clicks, impressions, position, shown_share, served (covered, partly, uncovered), page, answered_share, proposal
        (none, extend, new page, translate, restore), gain, gain_low, gain_high, worth, peak, because, strength; by gain, weighted by the
        strength of the section.
        """
        return self.table("topics")

    def check_ideas(self, ideas: Sequence[str]) -> pd.DataFrame:
        """Ideas compared with the topics: idea, topic, likeness (1: known query), queries, volume, served, page, position, advice."""
        import pandas as pd

        return self._pipeline.topics.check_ideas(pd.Series(list(ideas), dtype="str"))

    def between(self, one: str, other: str) -> dict[str, Any]:
        """Whether two queries need one page or two: answer, because, and the shares of results, pages and words in common.

        Raises NotFoundError for a query that no source contains.
        """
        return self._pipeline.topics.between(one, other)

    def topics_aside(self) -> pd.DataFrame:
        """Queries that belong to no topic, by reason: reason, queries, impressions."""
        return self._kept("topics-aside", lambda p: p.query_map.topics_aside())

    def strengths(self) -> pd.DataFrame:
        """What works on this site: earnings of sections, groups, kinds and lengths of pages per page and per search, relative to the usual."""
        return self.table("strengths")

    def apart(self) -> pd.DataFrame:
        """Pairs of pages that draw the same queries but are not merged: page, other, shared (queries), overlap, turn_taking, because."""
        return self.table("apart")

    def evidence(self) -> pd.DataFrame:
        """The figures behind each verdict: page, verdict, measure, value, threshold, window, source."""
        return self.table("evidence")

    def redirects(self) -> pd.DataFrame:
        """Redirects of addresses that go: from, to, status (301 or 410), because; no chains, no loops."""
        return self.table("redirects")

    # -- what changed --------------------------------------------------------------------------------------------------------------------

    def compare(self, recent: int | str | None = None, against: str | None = None, *, by: str | None = None) -> pd.DataFrame:
        """The changes between two windows, their causes, and their contributions: the columns of changes.csv, real and large changes first.

        Args:
            recent: number of days up to the last complete one, or FROM..TO; defaults to [windows] recent.
            against: year (the same days a year earlier), before (the preceding days) or FROM..TO; defaults to the year where the data go
                back that far.
            by: one level (site, section, group, brand, device, country, surface, channel, source, topic, page, query); defaults to all.
        Raises NotFoundError for an unknown level or window.
        """
        from nibbet.core.compare import CHANGES, LEVELS

        if by is not None and by not in LEVELS:
            raise NotFoundError(f"There is no level {by}.{close_names(by, list(LEVELS))} Levels: {', '.join(LEVELS)}.")
        if (recent, against, by) == (None, None, None):
            return self.table("changes")
        return self._compared(recent, against, f"changes-{by or 'all'}", CHANGES, lambda comparison: comparison.table(by))

    def losses(self, recent: int | str | None = None, against: str | None = None) -> pd.DataFrame:
        """Queries of a page that lose clicks together, as one loss: page, subject, queries, recent, reference, change, parts, why."""
        from nibbet.core.compare import LOSSES

        if (recent, against) == (None, None):
            return self.table("losses")
        return self._compared(recent, against, "losses", LOSSES, lambda comparison: comparison.losses())

    def rising(self, days: int = 28, *, by: str = "query") -> pd.DataFrame:
        """Queries or topics (`by`) that are new, rise or fade in the last days compared with the preceding ones, beyond noise and season; new
        ones first.

        Raises NotFoundError for another level, or a window outside the data.
        """
        from nibbet.core.rising import RISING

        if by not in ("query", "topic"):
            raise NotFoundError(f"There is no {by} to rise. Levels: query, topic.")
        self._needs_days("What rises", "Between the periods that they serve: nibbet compare --by query", "pair")
        return self._compared(days, "before", f"rising-{by}", RISING, lambda comparison: comparison.rising(by))

    def trends(self) -> pd.DataFrame:
        """Per page with enough clicks, the development of its weeks without season and section: a lasting fall (collapse, slow decay) or
        rise, since which week, its size with an interval; evergreen or short-lived; and for new pages the share of the site's new pages
        that started worse.
        """
        return self.table("trends")

    def new_pages(self, days: int = NEW_SINCE) -> pd.DataFrame:
        """Pages first seen in the last days, youngest first: clicks since then, compared with earlier new pages at the same age (start_low,
        start_usual, start_high: 10th, 50th, 90th percentile; start_rank), first query, links to it, verdict.

        Raises NotFoundError where search rows have no days.
        """
        self._needs_days("When search first showed a page", 'With dates of publication: nibbet sql "SELECT page, published FROM pages"')
        return self.table("new_pages") if days == NEW_SINCE else self._kept(f"new-pages-{days}", lambda p: p.decisions.new_pages(days))

    def pulls(self) -> pd.DataFrame:
        """Pull of pages (no query) and of pairs with interval, flagged low or high, and the clicks lost; by clicks lost."""
        return self.table("pulls")

    def parts(self) -> pd.DataFrame:
        """Sums and rates of the site, its sections and the named groups of pages."""
        return self.table("parts")

    def peers(self) -> pd.DataFrame:
        """Pages whose pull, engagement or conversions deviate from those of their section or group."""
        return self.table("peers")

    def segments(self) -> pd.DataFrame:
        """Pages that do well in one device, country or surface and badly in another: pull and engagement."""
        return self.table("segments")

    def splits(self, page: str | None = None) -> pd.DataFrame:
        """Devices, countries, surfaces, channels and sources of the site or of one page: searches, CTR, position, visits, engagement,
        conversions, revenue; pull, engagement and conversion relative to the same pages in all other values (1.0 = equal), with interval
        and flag.

        Raises NotFoundError for an unknown page.
        """
        if page is None:
            return self.table("splits")
        address = str(self._row_of(page)["page"].iloc[0])
        return self._kept(f"splits-{key_of(address)}", lambda p: p.splits.table(address))

    def hosts(self, topic: str | None = None) -> pd.DataFrame:
        """Visible hosts by topic (level all: all queries), or in one topic. Raises NotFoundError for a topic without a snapshot."""
        rows = self.table("hosts")
        if topic is None or rows.empty:
            return rows
        topics = rows.loc[rows["level"] == "topic", "key"]
        known = topics[topics.str.lower() == topic.strip().lower()]
        if known.empty:
            near = close_names(topic, topics.unique().tolist())
            raise NotFoundError(f'No result snapshot shows the topic "{topic}".{near} Topics: nibbet topics')
        return rows.loc[known.index].reset_index(drop=True)

    def titles(self) -> pd.DataFrame:
        """What to change first in title and description of each page, with the clicks a month where the effect is proven on this site."""
        return self.table("titles")

    def title_effects(self) -> pd.DataFrame:
        """Effects of traits of titles and descriptions: CTR of pages with each relative to others at the same position, with interval."""
        return self.table("title_effects")

    def title_changes(self) -> pd.DataFrame:
        """Pages whose title or description changed between two dated inventories, with the effect on CTR; the most certain first."""
        return self.table("title_changes")

    def visit_sources(self, page: str | None = None) -> pd.DataFrame:
        """Sources of visits: one row per page, channel and source (the sending site or service), of all pages or of one: sessions of
        both windows and their change, engagement, conversions. Raises NotFoundError for an unknown page.
        """
        rows = self.table("visit_sources")
        return rows if page is None else rows[rows["page"] == str(self._row_of(page)["page"].iloc[0])].reset_index(drop=True)

    def event_rates(self, page: str | None = None) -> pd.DataFrame:
        """Events on each page, or on one: count, rate with an 80% interval, usual rate. Raises NotFoundError for an unknown page."""
        rows = self.table("event_rates")
        return rows if page is None else rows[rows["page"] == str(self._row_of(page)["page"].iloc[0])].reset_index(drop=True)

    def engagement(self) -> pd.DataFrame:
        """Engagement of each page and channel, compared with the same channel on the other pages of its section."""
        return self.table("engagement")

    def weekly(self, pages: Sequence[str]) -> pd.DataFrame:
        """Clicks of whole weeks up to the last complete day: a row per page (by address), a column per week, named by its last day."""
        wanted = sorted(pages)
        return self._kept(f"weekly-{key_of(wanted)}", lambda p: p.history.weekly(wanted).reset_index()).set_index("page")

    def within_reach(self, place: float = 3.0) -> pd.DataFrame:
        """Clicks a month within reach if every query below `place` rose to it, with an 80% interval; by gain."""
        if not 1 <= place <= 100:
            raise NotFoundError(f"place = {place} is no position. Give one from 1 to 100.")
        return self._kept(f"reach-{place:g}", lambda p: p.opportunities.within_reach(place))

    def seasons(self) -> pd.DataFrame:
        """The season of each section, and of each page with enough clicks: level, key, season (own, section: that of its section,
        evergreen, unknown), height, peak, begins, ready_by, second_height, second_peak, low, quiet, weekend.
        """
        return self.table("seasons")

    def compared_windows(self, recent: int | str | None = None, against: str | None = None) -> Windows:
        """The windows that `compare` compares."""
        from nibbet.core.windows import chosen_windows

        return chosen_windows(self.windows, recent, against)

    def _needs_days(self, what: str, instead: str, of: str = "page") -> None:
        if not (self.windows.is_daily if of == "page" else self.windows.has_daily_pairs):
            raise NotFoundError(
                f"{what} is told only by search rows by day or week, and the newest ones here are of longer periods. {instead}"
            )

    def _compared(
        self, recent: int | str | None, against: str | None, name: str, columns: list[str], make: Callable[[Comparison], pd.DataFrame]
    ) -> pd.DataFrame:
        """The result of `make` for two windows, without rows where the data do not cover the earlier one."""
        from nibbet.core.compare import nothing

        windows = self.compared_windows(recent, against)
        if not windows.has_reference:
            return nothing(columns)
        key = key_of(self._result_key, windows.as_dict())
        return self._store.frame(name, key, lambda: make(self._pipeline.comparison(windows)))

    def repairs(self) -> pd.DataFrame:
        """Technical faults between pages and their traffic, by visits at stake: page, repair, weight, target, because."""
        return self.table("repairs")

    def absent(self) -> pd.DataFrame:
        """Pages that matter and that search hardly shows: page, importance (number of six signs), cause, mend, because."""
        return self.table("absent")

    def broken_links(self) -> pd.DataFrame:
        """Internal links to a fault or a detour: source, target, status, anchor, place, links (number), to (what to link to)."""
        return self.table("broken_links")

    def link_flows(self) -> pd.DataFrame:
        """Where the links of each section lead: section_from, section_to, links, flow, received, demand_share."""
        return self.table("link_flows")

    def lives(self) -> pd.DataFrame:
        """Long-term development of pages and topics: level, key, life, its season with the day to be ready by, and why."""
        return self.table("lives")

    def markets(self) -> pd.DataFrame:
        """Countries and languages (null for all others): impressions, clicks, visits and sales, gain and worth of a translation."""
        return self.table("markets")

    def popular(self) -> pd.DataFrame:
        """The most viewed, longest visited and highest earning pages: measure, level, key, rank, page, value, share, usual."""
        return self.table("popular")

    def popular_traits(self) -> pd.DataFrame:
        """What popular pages have in common: measure, trait, times (relative to others of their section), its interval, real."""
        return self.table("popular_traits")

    def popular_ideas(self) -> pd.DataFrame:
        """Unanswered topics related to popular pages: topic, volume, proposal, gain, page (the popular one), popular_by, likeness, because."""
        return self.table("popular_ideas")

    def speed(self) -> pd.DataFrame:
        """Speed of each page for its visitors: loading (s), responding (ms), shifting (share), samples, rating; poor ones first."""
        return self.table("speed")

    def speed_cost(self) -> pd.DataFrame:
        """Whether poor pages engage and convert less than the others of their section: measure, ratio, low, high, pages, proven."""
        return self.table("speed_cost")

    def anchors(self) -> pd.DataFrame:
        """Anchor texts of the links to each page, by side (inside, outside): shares by kind, the most frequent, missing words."""
        return self.table("anchors")

    def linking_hosts(self) -> pd.DataFrame:
        """Linking hosts: host, links, from_pages, pages, newest, new, lost, failing, visits."""
        return self.table("linking_hosts")

    def backlink_faults(self) -> pd.DataFrame:
        """Backlinks that are lost, or lead to addresses that fail or redirect: from_url, page, state, to, because."""
        return self.table("backlink_faults")

    def link_suggestions(self) -> pd.DataFrame:
        """Missing internal links: to, from (the page for the link), anchor, and why."""
        return self.table("link_suggestions")

    # -- one page, one query ---------------------------------------------------------------------------------------------------------------

    def page(self, address: str) -> dict[str, Any]:
        """Everything about one page: its row (`page`), the `windows`, its `change` in parts, its `trend`, its `title_change`, its `repairs`,
        its `visits` by source, its `events`, its `queries`, its `evidence`. Raises NotFoundError for an unknown page.
        """
        from nibbet.core.tables import records

        row = records(self._row_of(address))[0]
        queries, evidence, changes = self.queries(), self.evidence(), self.compare(by="page")
        tables = {"trend": self.trends(), "title_change": self.title_changes(), "repairs": self.repairs()}
        return {
            "page": row,
            "windows": self.windows.as_dict(),
            "change": records(changes[changes["key"] == row["page"]]),
            **{name: records(table[table["page"] == row["page"]]) for name, table in tables.items()},
            "visits": self.visit_sources(str(row["page"])).drop(columns="page"),
            "events": self.event_rates(str(row["page"])).drop(columns="page"),
            "queries": queries[(queries["page"] == row["page"]) & queries["query"].notna()].drop(columns="page").reset_index(drop=True),
            "evidence": evidence[evidence["page"] == row["page"]].drop(columns="page").reset_index(drop=True),
        }

    def verdict_of(self, address: str) -> pd.DataFrame:
        """The verdict of one page, as a frame of one row with the columns of `verdicts`; all null for an address that has none."""
        row = self._row_of(address)
        return row[["page", "verdict", "cause", "target", "gain", "gain_low", "gain_high", "confidence", "because", "also"]].reset_index(
            drop=True
        )

    def query(self, text: str) -> pd.DataFrame:
        """All pages of one query, the owner first. Raises NotFoundError for an unknown query."""
        wanted, pairs = " ".join(text.lower().split()), self.queries()
        rows = pairs[pairs["query"] == wanted]
        if rows.empty:
            close = close_names(wanted, pairs["query"].dropna()) or ' List them with: nibbet sql "SELECT query FROM query_totals"'
            raise NotFoundError(f'No search row has the query "{text}" in the recent window.{close}')
        order = rows["role"].map({"owner": 0, "rival": 1, "passing": 2, "stray": 3})
        return (
            rows.assign(order=order)
            .sort_values(["order", "impressions"], ascending=[True, False])
            .drop(columns="order")
            .reset_index(drop=True)
        )
