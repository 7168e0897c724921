"""Pages that matter and that search hardly shows."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core import link_rows
from nibbet.core import reduce as reductions
from nibbet.core.absent import absent_pages, copies_of, few_impressions
from nibbet.core.robots import closing_rules
from nibbet.pipeline.context import Context
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Absence:
    """Causes that keep pages out of search."""

    context: Context
    inputs: Inputs
    sums: Sums
    pages: Pages
    query_map: QueryMap
    measures: Measures

    def table(self) -> pd.DataFrame:
        """Pages that matter and that search hardly shows: `core.absent.ABSENT`."""
        pages, shown = self.measures.ledger, self.sums.pages
        before = shown["impressions_reference"].reindex(pages.index)
        pages = pages.assign(first_seen=pd.to_datetime(shown["first_seen"]).reindex(pages.index), impressions_reference=before)
        unseen = np.flatnonzero((pages["impressions"].fillna(0) < few_impressions(pages)).to_numpy())
        copies = copies_of(pages.assign(described=self._described(pages)), unseen, self.query_map.page_words[1])
        result = absent_pages(pages, self._facts(pages), copies, pd.Timestamp(self.sums.windows.first))
        result = result[~result["page"].map(self.pages.over).astype(bool)].reset_index(drop=True)
        return result.assign(page=result["page"].map(pages["page"]))

    def _described(self, pages: pd.DataFrame) -> pd.Series:
        """Whether more is known of the content of each page than title and heading."""
        described = pages[["description", "words"]].notna().any(axis=1)
        inventory = self.inputs.joined.inventory
        return described if inventory is None else described | inventory["text"].reindex(pages.index).notna()

    def _facts(self, pages: pd.DataFrame) -> pd.DataFrame:
        """By page number, facts outside the ledger: listed, navigation, fetches, closed_by, index_state."""
        rules, editorial = self.inputs.robots, self.inputs.joined.small_source("editorial")
        closed = pages["robots_blocked"].eq(True).fillna(False).astype(bool)
        agents = self.context.config.site.search_agents
        by = closing_rules(pages.loc[closed, "path"], rules, agents) if rules is not None else pd.Series(dtype="str")
        return pd.DataFrame(
            {
                "listed": False if editorial is None else pages.index.isin(editorial["page_id"].dropna()),
                "navigation": pages.index.isin(self._in_navigation()),
                "fetches": self._fetches(pages.index),
                "closed_by": by.reindex(pages.index).astype("str"),
                "index_state": self.inputs.index_exclusions,
            },
            index=pages.index,
        )

    def _in_navigation(self) -> pd.Series:
        """The numbers of pages to which a navigation links."""
        if (links := self.inputs.joined.table("links")) is None:
            return pd.Series(dtype="int64")
        return self.context.fetch("navigation", lambda: link_rows.in_navigation(links))["target_id"]

    def _fetches(self, pages: pd.Index) -> pd.Series:
        """Fetches of each page by robots; null without a server log."""
        if (hits := self.inputs.joined.table("hits")) is None:
            return pd.Series(pd.NA, index=pages, dtype="Int64")
        agents = self.context.config.site.search_agents
        fetched = self.context.fetch("robot-fetches", lambda: reductions.robot_fetches(hits, agents)).set_index("page_id")["fetches"]
        return fetched.reindex(pages).fillna(0).astype("Int64")
