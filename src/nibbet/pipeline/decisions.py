"""The verdict of every page with its evidence."""

from __future__ import annotations

from dataclasses import dataclass

import pandas as pd

from nibbet.core.findings import Facts
from nibbet.core.ledger import NEW_DAYS
from nibbet.core.openings import climbs_of_pages
from nibbet.core.tables import named_pages, named_queries, spelt, with_lone
from nibbet.core.verdicts import decide
from nibbet.core.wording.verdicts import MIXED, SELECTED, counted_differently
from nibbet.once import ahead, once
from nibbet.pipeline.changes import Changes
from nibbet.pipeline.context import Context
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.history import History
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.merges import Merges
from nibbet.pipeline.opportunities import Opportunities
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums
from nibbet.pipeline.targets import Targets

NEW_PAGES = (
    "page section published first_seen age_days age_weeks start_clicks start_low start_usual start_high start_rank earlier clicks impressions position queries "
    "first_query inlinks verdict title"
).split()


@dataclass(frozen=True, eq=False)
class Decisions:
    """Verdicts, and the output tables with them."""

    context: Context
    inputs: Inputs
    sums: Sums
    expectation: Expectation
    history: History
    pages: Pages
    query_map: QueryMap
    changes: Changes
    measures: Measures
    opportunities: Opportunities
    merges: Merges
    targets: Targets

    def _prepare(self) -> None:
        """Computes all inputs of the rules on two cores, independent ones in parallel."""
        interrupt = self.context.engines.interrupt
        self.inputs.joined  # noqa: B018 - asked for, so that it is there
        with ahead(lambda: self.expectation.pairs, lambda: self.changes.page_parts, lambda: self.history.trends, interrupt=interrupt):
            self.pages.table  # noqa: B018
            self.query_map.mapped  # noqa: B018
        with ahead(lambda: self.merges.candidates, interrupt=interrupt):
            self.measures.standing  # noqa: B018
            self.context.say("looking for pages to merge")
        with ahead(lambda: self.opportunities.rows, interrupt=interrupt):
            self.merges.outcome  # noqa: B018

    @once
    def facts(self) -> Facts:
        """The input of all rules."""
        return Facts(
            self.measures.ledger,
            climbs_of_pages(self.opportunities.rows),
            self.merges.groups,
            self.merges.gains,
            self.opportunities.stray_topics,
            self.targets.covering,
            self.sums.windows,
            self.context.config.verdicts,
            self.context.config.windows.settled,
            self.measures.standing,
            self._untold_because,
        )

    @property
    def _untold_because(self) -> str:
        """A sentence on why the data do not show by what clicks fell; empty where they do."""
        w = self.sums.windows
        if not w.are_counted_alike:
            return counted_differently(str(w.counted_since))
        if self.sums.rows_selected:
            return SELECTED
        return "" if self.sums.rows_placed else MIXED

    @once
    def outcome(self) -> tuple[pd.DataFrame, pd.DataFrame]:
        """The verdict of every page, by its number, and the evidence: see `core.verdicts.decide`."""
        self._prepare()
        facts = self.facts
        self.context.say("deciding")
        verdicts, evidence = decide(facts)
        return verdicts.assign(worth=verdicts["gain"] * self.measures.visit_value.reindex(verdicts.index)), evidence

    @once
    def _page_table(self) -> pd.DataFrame:
        """One row per page, by address: the columns PAGES."""
        verdicts, _ = self.outcome
        return named_pages(self.measures.ledger, verdicts)

    def ledger_table(self) -> pd.DataFrame:
        """The ledger: one row per page with the columns of pages.csv, by address."""
        return self._page_table.copy()

    def queries_table(self) -> pd.DataFrame:
        """The query map: one row per page and query with the columns of queries.csv; withheld rows have an empty query, totals of queries an
        empty page.
        """
        result = named_queries(self.query_map.pairs, self.measures.ledger)
        return with_lone(result, self.query_map.pageless_in_topics) if len(self.expectation.pageless_queries) else result

    def new_pages(self, days: int) -> pd.DataFrame:
        """Pages first seen in the last `days`, youngest first: NEW_PAGES; not those published long before search first showed them."""
        young = self.history.starts(days)
        published = self.measures.ledger["published"].reindex(young.index)
        young = young[~((young["first_seen"] - published).dt.days > NEW_DAYS)]
        ledger = self.measures.ledger.reindex(young.index)
        pairs = self.query_map.pairs
        of_young = pairs.loc[pairs["page"].isin(young.index) & (pairs["impressions"] > 0), ["page", "query", "impressions", "brand"]]
        leading = (
            of_young[~of_young["brand"]]
            .sort_values(["page", "impressions"], ascending=[True, False], kind="stable")
            .drop_duplicates("page")
        )
        names = ["page", "section", "published", "title", "clicks", "impressions", "position", "queries", "inlinks"]
        table = ledger[names].join(young).join(leading.set_index("page")["query"].rename("first_query"))
        table = table.assign(
            first_query=spelt(table["first_query"]),
            age_days=(pd.Timestamp(self.sums.windows.as_of) - table["first_seen"]).dt.days + 1,
            verdict=self.outcome[0]["verdict"].reindex(young.index),
        )
        order = table.sort_values(["first_seen", "clicks", "page"], ascending=[False, False, True], ignore_index=True)
        return order[NEW_PAGES].astype({"verdict": "str", "age_days": "int64"})

    def verdicts(self) -> pd.DataFrame:
        """One row per page that has a verdict: page, verdict, cause, target, gains, worth, confidence, because, also; by gain."""
        names = ["page", "verdict", "cause", "target", "clicks", "gain", "gain_low", "gain_high", "worth", "confidence", "because", "also"]
        rows = self._page_table[self._page_table["verdict"].notna()][names]
        return rows.sort_values(["gain", "page"], ascending=[False, True], na_position="last", ignore_index=True)

    def evidence(self) -> pd.DataFrame:
        """The figures behind each verdict: page, verdict, measure, value, threshold, window, source."""
        rows = self.outcome[1]
        return rows.assign(page=rows["page"].map(self.pages.table["page"])).sort_values(
            ["page", "measure"], kind="stable", ignore_index=True
        )
