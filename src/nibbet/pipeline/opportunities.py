"""Clicks within reach, by page and query."""

from __future__ import annotations

from dataclasses import dataclass

import pandas as pd

from nibbet.core.findings import GAINS
from nibbet.core.members import queries_in_groups
from nibbet.core.openings import COLUMNS as OPENINGS
from nibbet.core.openings import by_gain, find_openings, stray_shares, within_reach
from nibbet.core.pull import weighted_position
from nibbet.core.standing import with_withheld
from nibbet.core.tables import spelt
from nibbet.core.topics import topic_languages
from nibbet.core.words import numbered
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Opportunities:
    """Openings: climbs, snippets and strays."""

    context: Context
    inputs: Inputs
    sums: Sums
    expectation: Expectation
    pages: Pages
    query_map: QueryMap
    measures: Measures

    @once
    def rows(self) -> pd.DataFrame:
        """One row per opening, pages by number: see `core.openings.find_openings`."""
        t, pairs = self.context.config.verdicts, self.query_map.pairs if self.inputs.is_paired else self.measures.pages_as_pairs
        if self.context.config.about.unwanted and "query" in pairs:
            pairs = pairs[~pairs["query"].isin(self._unwanted)]
        return find_openings(
            pairs,
            self.expectation.curve,
            self.expectation.sight,
            self.sums.windows.recent.days,
            t,
            standing=self.measures.standing,
            section_pull=self.measures.ledger["section_pull"],
        )

    @property
    def _unwanted(self) -> pd.Series:
        """The queries for which the business does not want to be found."""
        queries = pd.Series(numbered(self.query_map.pairs)[1]).astype("str")
        items = list(self.context.config.about.unwanted)
        return queries_in_groups(queries, {"": items}, place="[about] unwanted")["query"]

    def table(self) -> pd.DataFrame:
        """Clicks within reach: page, query, kind (climb, snippet, stray), position, clicks, expected_clicks, gain, gain_low, gain_high."""
        result = by_gain(self.rows)
        result = result.assign(page=result["page"].map(self.pages.table["page"]))[OPENINGS]
        if len(self.expectation.pageless_queries):
            lone = by_gain(self._pageless)[OPENINGS].astype({"page": "str"}).assign(page=None)
            result = pd.concat([result, lone], ignore_index=True).sort_values(["gain", "query"], ascending=[False, True], ignore_index=True)
        return result

    @property
    def _pageless(self) -> pd.DataFrame:
        """Openings of queries whose pages are unknown: climbs and snippets, as if the site answered them."""
        t, rows = self.context.config.verdicts, self.query_map.pageless_in_topics
        rows = rows.assign(page=-1, role="owner", answer=1.0, query=pd.Categorical(rows["query"]), topic=pd.Categorical(rows["topic"]))
        days = self.sums.windows.recent.days
        return find_openings(
            rows,
            self.expectation.curve,
            self.expectation.sight,
            days,
            t,
            standing=self.measures.standing,
        )

    @once
    def strays(self) -> pd.DataFrame:
        """One row per query that no page answers, with the page shown most for it, so that no search is promised twice; gains include
        withheld queries like it. Categories are texts.
        """
        rows = self.rows[self.rows["kind"] == "stray"]
        rows = rows.assign(query=spelt(rows["query"]), topic=spelt(rows["topic"]))
        rows = rows.sort_values(["query", "impressions", "page"], ascending=[True, False, True]).drop_duplicates("query")
        whole = with_withheld(rows["page"].map(self.measures.ledger["withheld_share"]))
        return rows.assign(**{name: rows[name] * whole for name in GAINS})

    @once
    def stray_topics(self) -> pd.DataFrame:
        """One row per page and topic of its strays: queries, first (the label, or where a page answers that, the query shown most), sums, gains,
        position, language, stray_share and usual_share (see `core.openings.stray_shares`).
        """
        rows = self.strays.sort_values(["impressions", "query"], ascending=[False, True])
        sums = {name: (name, "sum") for name in ("impressions", "clicks", "position_sum", "placed", *GAINS)}
        table = rows.groupby(["page", "topic"], as_index=False).agg(queries=("query", "size"), first=("query", "first"), **sums)
        table["first"] = table["topic"].where(table["topic"].isin(self.strays["query"]), table["first"])
        table["language"] = table["topic"].map(topic_languages(self.query_map.grouped))
        return stray_shares(table.assign(position=weighted_position(table["position_sum"], table["placed"])), self.query_map.pairs)

    def within_reach(self, place: float) -> pd.DataFrame:
        """Clicks within reach if every query below `place` rose to it."""
        result = within_reach(self.query_map.pairs, self.expectation.curve, self.expectation.sight, self.sums.windows.recent.days, place)
        return result.assign(page=result["page"].map(self.inputs.pages["page"]))
