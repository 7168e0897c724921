"""Topics: what the site answers, its strays, and what to write."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from nibbet.core import sentences as say
from nibbet.core.about import topic_fit
from nibbet.core.briefs import SAID
from nibbet.core.hosts import FIRST, HOSTS, seen_hosts
from nibbet.core.ideas import between, check_ideas
from nibbet.core.shares import earned_by, nothing_earned
from nibbet.core.tables import spelt
from nibbet.core.topics import topic_peaks, topic_table
from nibbet.core.verdict import LEAVING
from nibbet.core.windows import MONTH_DAYS
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.decisions import Decisions
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.opportunities import Opportunities
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Topics:
    """The topics with their proposals, ideas compared with them, and what briefs rest on."""

    context: Context
    inputs: Inputs
    sums: Sums
    expectation: Expectation
    pages: Pages
    query_map: QueryMap
    measures: Measures
    opportunities: Opportunities
    decisions: Decisions

    @property
    def _peaks(self) -> pd.Series:
        """By topic, the next peak of its season, where the data have a year of searches."""
        if (rows := self.inputs.demand_rows) is None:
            return pd.Series(dtype="datetime64[ns]", index=pd.Index([], dtype="str"))
        return topic_peaks(rows, self.query_map.grouped, self.sums.windows.as_of)

    @once
    def _numbered(self) -> pd.DataFrame:
        """The topics with pages by number."""
        pairs, strays, lone = self.query_map.pairs, self.opportunities.strays, self.expectation.pageless_queries
        grouped = self.query_map.grouped
        if len(lone):
            pairs = pd.concat(
                [pairs.assign(query=spelt(pairs["query"]), topic=spelt(pairs["topic"])), self.query_map.pageless_in_topics],
                ignore_index=True,
            )
        unseen = grouped[(grouped["impressions"] == 0) & (grouped["demand"] > 0)]
        if len(unseen):  # searched, but the site does not appear
            days = self.sums.windows.recent.days
            demand = unseen["demand"].to_numpy(float) * days / MONTH_DAYS
            gains = self.measures.standing.gains(demand, np.zeros(len(unseen)), np.full(len(unseen), 100.0), self.expectation.curve, days)
            strays = pd.concat([strays, unseen[["query", "topic"]].assign(kind="stray", **gains)], ignore_index=True)
        table = topic_table(
            pairs,
            strays,
            grouped,
            self.inputs.pages["path"],
            self.sums.windows.recent,
            languages=self.pages.languages,
            strength=self.measures.section_strength,
            worth=self.measures.visit_value,
            peaks=self._peaks,
            least=self.context.config.verdicts.min_gain,
            pages_known=self.inputs.is_paired,
            dead=self.pages.dead,
            over=self.pages.over,
        )
        about = self.context.config.about
        volume = grouped.assign(volume=grouped["impressions"].where(grouped["demand"].isna(), grouped["demand"]))
        fit = topic_fit(
            table["topic"], volume, sells=about.sells, rivals=about.rivals, unwanted=about.unwanted, lexicon=self.query_map.page_words[0]
        )
        unfit = fit["fit"].eq("unfit") & table["served"].ne("covered")
        left = say.joined("Left alone, ", say.named(fit["fit_because"]), ". ", table["because"])
        table = table.join(self._earned, on="topic")
        return table.assign(**fit, proposal=table["proposal"].where(~unfit, "none"), because=table["because"].where(~unfit, left))

    @property
    def _earned(self) -> pd.DataFrame:
        """Earnings of the queries of each topic: `core.shares.EARNED`; nulls where landings lack them."""
        pages, pairs = self.measures.earning_pages, self.query_map.pairs
        if pages is None or not self.inputs.is_paired:
            return nothing_earned()
        return earned_by(pairs[["page", "clicks"]], spelt(pairs["topic"]), pages)

    def table(self) -> pd.DataFrame:
        """Topics: what the site answers, its strays, and what to write: see `core.topics.TOPICS`."""
        return self._numbered.assign(page=self._numbered["page"].map(self.inputs.pages["page"]))

    def hosts(self) -> pd.DataFrame:
        """Visible hosts in the results, over all queries and by topic: `core.hosts.HOSTS`; no rows without result snapshots."""
        now, then, home = self.inputs.snapshots, self.inputs.earlier_snapshots, self.inputs.joined.home
        if now is None or then is None:
            return pd.DataFrame(columns=HOSTS)
        searches = self.inputs.monthly_searches
        grouped = self.query_map.grouped
        demand = grouped.set_index("query")["impressions"].astype(float) if searches is None else searches.set_index("query")["demand"]
        rate = self.expectation.curve.rate(np.arange(1, FIRST + 1, dtype=np.float64))
        results, before = (rows[rows["kind"] == "result"] for rows in (now, then))
        return seen_hosts(results, before, self.query_map.query_topics, demand, rate, home.every)

    def check_ideas(self, ideas: pd.Series) -> pd.DataFrame:
        """Ideas compared with the topics of the site: see `core.ideas.check_ideas`."""
        lexicon, on_page = self.query_map.page_words
        living = self.inputs.pages["page"].where(~self.query_map.pages.dead)
        return check_ideas(ideas, self.query_map.grouping, self.table(), lexicon=lexicon, on_page=on_page, living=living)

    def between(self, one: str, other: str) -> dict[str, Any]:
        """Whether two queries need one page or two: see `core.ideas.between`."""
        return between(one, other, self.query_map.grouping, self.inputs.snapshots, language=self.context.config.site.language)

    def pages_for_briefs(self) -> pd.DataFrame:
        """The pages to which briefs may refer: page, clicks, their texts, and whether they fail, are blocked or are to go."""
        leaves = self.decisions.outcome[0]["verdict"].isin(LEAVING)
        return self.measures.ledger.reindex(columns=["page", "clicks", "gone", "blocked", *SAID]).assign(leaves=leaves)

    def results_for_briefs(self) -> pd.DataFrame:
        """The titles of the newest results: query, kind (result, question), title, url; no rows without result snapshots."""
        rows = self.inputs.snapshots
        names = ["query", "kind", "title", "url"]
        return pd.DataFrame(columns=names, dtype="str") if rows is None else rows.loc[rows["title"].notna(), names].reset_index(drop=True)
