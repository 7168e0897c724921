"""The balance of the join, and notes on the data."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import pandas as pd

from nibbet.core.ledger import (
    named_robots,
    with_followed_links,
    with_sound_flags,
    without_page,
)
from nibbet.core.robots import closed_alone
from nibbet.core.site_files import robots_notes, sitemap_notes
from nibbet.core.windows import NOT_OF_QUERIES, RECENT_DAYS, WHOLE, Window
from nibbet.join.joined import matched
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Balance:
    """The account of rows used and set aside, with its notes."""

    context: Context
    inputs: Inputs
    sums: Sums
    pages: Pages

    @once
    def balance(self) -> dict[str, Any]:
        """The account: per source rows and measures read = used + set aside; the share matched; notes with a code."""
        from nibbet.core.missing import missing_evidence
        from nibbet.core.notes import notes, unmatched

        joined, account, settings = self.inputs.joined, self.inputs.joined.account, self.context.config
        sums = {"clicks": self.sums.pages["clicks_all"]}
        if self.sums.visits is not None and "sessions" in joined.given["landings"]:
            sums["sessions"] = self.sums.visits["sessions_all"]
        grains = {name: one.grain for name, one in joined.files if one.kind == "search"}
        is_set = self.context.sum_settings.site.as_of is not None
        pages, recent = self.pages.table, self.sums.windows.recent
        all_notes = notes(
            account,
            joined.as_of,
            self.inputs.days,
            pages,
            joined.addresses,
            self.sums.visit_days,
            recent,
            grains=grains,
            is_set=is_set,
            queries=self.sums.windows.queries,
        )
        all_notes += (
            self._doubts_of_flags
            + self._moved_windows
            + self._recounted
            + self._mixed_positions
            + self._cut_lists
            + self._days_of_queries
            + self._patterns_without_page
            + self._closed_alone
            + self._doubts_of_files
            + self._doubts_of_inventories
        )
        more = missing_evidence(
            self.pages.table,
            joined.given,
            self.sums.windows,
            protects=bool(settings.protect.pages),
            needed=settings.verdicts.covered_days,
            poor_clicks=settings.verdicts.prune_clicks,
        )
        return {
            **account,
            "matched": matched(joined.pages, sums),
            "unmatched": unmatched(self.pages.table),
            "notes": all_notes,
            "missing": more,
        }

    @property
    def _moved_windows(self) -> list[dict[str, str]]:
        """A note where the windows differ from the length in the settings because of the rows."""
        w, asked_days = self.sums.windows, self.context.config.windows.recent or RECENT_DAYS
        if w.recent.days == asked_days and not w.recent.spans:
            return []
        dated = w.step == "day" and self.inputs.is_paired
        why = (
            "rows without days serve whole periods"
            if w.recent.spans
            else "rows of queries reach no further back"
            if dated and w.first < w.recent.start and any(one.start == w.recent.start for one in w.queries)
            else "impressions of earlier days are counted differently"
            if w.counted_since is not None and w.counted_since <= w.recent.start
            else "the data have no days to cut it otherwise"
        )
        against = f", compared with {w.reference}" if w.reference_known else ", with no earlier window to compare"
        return [{"code": "windows_moved", "text": f"The recent window is {w.recent} ({w.recent.days} days){against}: {why}."}]

    @property
    def _recounted(self) -> list[dict[str, str]]:
        """A note where impressions are counted differently since some day."""
        w, change = self.sums.windows, self.inputs.recount
        if w.counted_since is None or change is None or change.since != w.counted_since:
            return []
        share = change.impressions - 1
        apart = (
            ""
            if w.are_counted_alike
            else " Of changes since before it, clicks alone are comparable: rank, pull and demand cannot be told apart."
        )
        text = (
            f"Since {change.since} impressions are counted differently: on most pages at once they became {abs(share):.0%} {'more' if share > 0 else 'fewer'}, "
            f"at a mean position of {change.position_after:.1f} instead of {change.position_before:.1f}, while clicks changed by {change.clicks - 1:+.0%}. "
            f"CTR at each position is learnt from the days since.{apart} "
            "If nothing was counted differently, set counted_since in [windows] to the first day of the data."
        )
        return [{"code": "recounted", "text": text}]

    @property
    def _mixed_positions(self) -> list[dict[str, str]]:
        """A note where the mean positions of pages, which must serve for those of queries, say nothing."""
        if self.sums.rows_placed or self.sums.rows_selected:
            return []
        text = (
            "Pages at mean positions beyond 10 get more clicks than is possible there: most are near the top for some queries and far down for many "
            "others. Rank and pull cannot be told apart, nor which pages could climb or need a better title. Export queries by page too."
        )
        return [{"code": "mixed_positions", "text": text}]

    @property
    def _cut_lists(self) -> list[dict[str, str]]:
        """Notes on lists that leave rows out: those that end above zero, those of so many rows a day, and those without rows without clicks."""
        names = {"page": "pages", "pair": "queries", "query": "queries"}
        unlisted = self.sums.unlisted
        instead = f" Pages that it lacks ({unlisted:,}) count with the clicks of their queries." if unlisted else ""
        notes = []
        for grain, rows in self.inputs.cut_lists.groupby("grain"):
            last = rows.iloc[-1]
            period = Window(pd.Timestamp(last["start"]).date(), pd.Timestamp(last["date"]).date())
            text = (
                f"The list of {names[str(grain)]} of {period} ends at {last['least']:,} clicks: what it lacks "
                f"has fewer, not none.{instead if grain == 'page' else ''} Export the whole list."
            )
            notes.append({"code": "cut_list", "text": text})
        for grain, limit, days, of in self.inputs.selected_days.itertuples(index=False, name=None):
            what = names[str(grain)]
            sign = f"{days:,} of {of:,} {self.sums.windows.step}s have exactly {limit:,} rows of {what}" if limit else f"No row of {what} is without clicks"
            text = (
                f"{sign}: the export left rows out. CTR of the others is too high, and so are gains; demand, rank and pull cannot be told apart. Export all "
                "rows."
            )
            notes.append({"code": "selected_rows", "text": text})
        return notes

    @property
    def _days_of_queries(self) -> list[dict[str, str]]:
        """Notes where rows name queries on only some days of a window."""
        w = self.sums.windows
        if not self.inputs.is_paired:
            text = f"No row names a query of a page in {w.recent}: pages are judged by page rows, because query rows are older."
            return [{"code": "query_days", "text": text}] if self.inputs.has_grain("pair") else []
        days = w.query_days(w.recent)
        text = f"Queries of pages are named on {days} of the {w.recent.days} days of {w.recent}: figures of queries are based on these."
        some = [{"code": "query_days", "text": text}] if days < WHOLE * w.recent.days else []
        if w.has_reference and self.sums.compares_totals_of_queries:
            text = "Changes of queries, topics and the brand are those of rows without pages, and changes of pages those of rows without queries."
            some.append({"code": "queries_alone", "text": text})
        elif w.has_reference and not w.compares_queries:
            some.append({"code": "queries_alone", "text": f"{NOT_OF_QUERIES} Pages are compared by page rows."})
        return some

    @property
    def _closed_alone(self) -> list[dict[str, str]]:
        """A note where robots.txt or pages block some agent alone, which may be a search engine."""
        if self.context.config.site.search_agents:
            return []
        inventory, rules = self.inputs.joined.inventory, self.inputs.robots
        kept = named_robots(inventory) if inventory is not None and "noindex_for" in inventory else pd.Series(dtype="int64")
        template = (
            '{:,} pages have a noindex for "{}" alone; they count as open. If that is a search engine, add: [site] search_agents = ["{}"]'
        )
        notes = [{"code": "noindex_alone", "text": template.format(int(count), agent, agent)} for agent, count in kept.head(3).items()]
        if rules is None:
            return notes
        result = closed_alone(self.inputs.pages["path"], rules)
        text = 'robots.txt blocks {:,} pages for "{}" alone; they count as open. If that is a search engine, add: [site] search_agents = ["{}"]'
        return notes + [{"code": "closed_alone", "text": text.format(count, agent, agent)} for agent, count in result.items()]

    @property
    def _doubts_of_files(self) -> list[dict[str, str]]:
        """Notes on errors in robots.txt and the sitemap."""
        rules, sitemap = self.inputs.robots, self.inputs.joined.small_source("sitemap")
        result = [] if rules is None else robots_notes(rules)
        return result if sitemap is None else result + sitemap_notes(sitemap, self.pages.table["modified"])

    @property
    def _doubts_of_inventories(self) -> list[dict[str, str]]:
        """Notes where there are several inventories of one site: which takes precedence, and which could be out of date."""
        older, twins = self.inputs.joined.inventory_doubts()
        result = []
        if older:
            text = f"Of several inventories the newest takes precedence; {len(older):,} pages in older ones alone keep their former facts."
            result.append({"code": "older_inventory", "text": text})
        if twins:
            text = (
                f"{' and '.join(twins)} differ on the same pages, and no date shows which is newer: pages that answer are preferred. "
                'Put the date into the name, such as crawl-2026-04-12.csv, or add to its [[source]]: constant = { crawled = "2026-04-12" }'
            )
            result.append({"code": "undated_inventories", "text": text})
        return result

    @property
    def _patterns_without_page(self) -> list[dict[str, str]]:
        """A note where a pattern in the settings matches no page: the page to be protected may have another address."""
        settings = self.context.config
        tables = {
            "[protect] pages": settings.protect.pages,
            **{f"[purpose] {name}": given for name, given in settings.purpose.model_dump().items()},
        }
        text = '{}: {} matches no page of this site. Patterns are paths such as "/legal/*"; see pages.csv for addresses.'
        return [
            {"code": "pattern_without_page", "text": text.format(table, " and ".join(f'"{one}"' for one in lost))}
            for table, given in tables.items()
            if (lost := without_page(self.inputs.pages["path"], given))
        ]

    @property
    def _doubts_of_flags(self) -> list[dict[str, str]]:
        """Notes where the crawl blocks most pages that search shows from the index: such a column is inverted; and where hardly a page has a
        link: such a crawl followed none.
        """
        if (inventory := self.inputs.joined.inventory) is None:
            return []
        notes = []
        if share := with_sound_flags(inventory, self.sums.pages)[1]:
            text = (
                f"The crawl marks {share:.0%} of the pages shown in search as blocked from the index, which is impossible: the column is not "
                'used. If a yes in it means the opposite of its header, add to its [[source]]: reverse = ["noindex"]'
            )
            notes.append({"code": "flag_contradicts", "text": text})
        if alone := with_followed_links(inventory)[1]:
            text = (
                f"According to the crawl, nothing links to {alone:,} pages: it read a list of addresses and followed no links. Internal links "
                "count as unknown; crawl from the home page to find orphans."
            )
            notes.append({"code": "links_not_followed", "text": text})
        return notes
