"""The measures of every page: pull, change, trend, value."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core.languages import asked_in
from nibbet.core.ledger import (
    judged_as_one,
    with_pull,
)
from nibbet.core.pull import weighted_position
from nibbet.core.redirects import (
    subject_of,
)
from nibbet.core.section_pull import of_equal_sections, pull_of_sections
from nibbet.core.standing import Standing, learn_standing
from nibbet.core.strength import formats, lengths, strengths
from nibbet.core.tables import rows_at
from nibbet.once import once
from nibbet.pipeline.changes import Changes
from nibbet.pipeline.context import Context
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.history import History
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums

#: weight of the rate of the site in that of a section, in sessions
PRIOR_SESSIONS = 200


@dataclass(frozen=True, eq=False)
class Measures:
    """The complete ledger, and results for the whole site."""

    context: Context
    inputs: Inputs
    sums: Sums
    expectation: Expectation
    history: History
    pages: Pages
    query_map: QueryMap
    changes: Changes

    @once
    def ledger(self) -> pd.DataFrame:
        """One row per page, by its number: `Pages.table` with pull, the change and its parts, trend, event, asked_in, intended."""
        table = with_pull(self.pages.table.copy(), self.query_map.pairs, self.context.config.verdicts.answers)
        if not self.inputs.is_paired:
            table = judged_as_one(table, self.pages_as_pairs)
        table = table.assign(**{str(name): part for name, part in self.changes.page_parts.items()})
        table["section_pull"] = pull_of_sections(table)
        result = self.history.trends[self.history.trends["real"]]
        table["trend"] = result["kind"].reindex(table.index)
        table["since"] = pd.to_datetime(result["since"].reindex(table.index))
        table = table.join(self.history.events)
        named = self.inputs.main_targets
        monthly = asked_in(self.query_map.pairs, self.query_map.queries).reindex(table.index)
        table["asked_in"] = monthly.where(monthly != self.pages.languages)
        table["intended"] = subject_of(table) if named is None else named.reindex(table.index).fillna(subject_of(table))
        return table

    @property
    def pages_as_pairs(self) -> pd.DataFrame:
        """The totals of pages as if each had one answered query; without the home page, which is searched for by name, and where their positions
        say nothing, without any.
        """
        rows = self.expectation.pairs
        aside = self.pages.table["path"].eq("/").reindex(rows["page"]).to_numpy() | (not self.sums.places_tell)
        return rows.assign(role="owner", answer=1.0, brand=aside, topic=pd.Series(None, index=rows.index, dtype="str"))

    @once
    def unbranded(self) -> pd.DataFrame:
        """The ledger with clicks_plain and expected_plain: sums over the queries without the brand."""
        summed, rows = ["clicks", "expected_clicks", "position_sum", "placed"], self.expectation.pairs
        if self.inputs.is_paired:
            rows = rows_at(self.query_map.pairs, ~self.query_map.pairs["brand"], ["page", *summed])
        sums = rows.groupby("page")[summed].sum().reindex(self.pages.table.index).fillna(0.0)
        plain = {"clicks_plain": sums["clicks"], "expected_plain": sums["expected_clicks"]}
        return self.pages.table.assign(**plain, position_plain=weighted_position(sums["position_sum"], sums["placed"]))

    @once
    def standing(self) -> Standing:
        """The positions of the good pages of this site."""
        return learn_standing(of_equal_sections(self.ledger), below=self.context.config.verdicts.climb_position[0])

    @once
    def visit_value(self) -> pd.Series:
        """Value of a visit from search on each page: conversions per session of the section (shrunk to the site) x value, or revenue; null
        without either. That of the site is under -1.
        """
        pages, value = self.ledger, self.context.config.value.conversion
        if value is None and not pages["revenue_long"].fillna(0).sum():
            return pd.Series(np.nan, index=[*pages.index, -1])
        of_section = pages.groupby("section")[["conversions_long", "revenue_long", "sessions_long"]].transform("sum").fillna(0.0)
        whole = pages[["conversions_long", "revenue_long", "sessions_long"]].fillna(0.0).sum()
        earned = "conversions_long" if value is not None else "revenue_long"
        of_site = whole[earned] / max(whole["sessions_long"], 1.0)
        per_session = (of_section[earned] + PRIOR_SESSIONS * of_site) / (of_section["sessions_long"] + PRIOR_SESSIONS)
        per_session.loc[-1] = of_site
        worth: pd.Series = per_session * (value if value is not None else 1.0)
        return worth

    @once
    def earning_pages(self) -> pd.DataFrame | None:
        """Earnings of visits from search on each page: clicks, sessions, engaged, conversions, revenue, section; None where landings lack
        them.
        """
        visits, names = self.sums.visits, ("sessions", "engaged", "conversions", "revenue")
        if visits is None or "recent" not in self.sums.windows.visits_in:
            return None
        known = visits[[f"{name}_organic_recent" for name in names]].set_axis(list(names), axis=1)
        pages = self.ledger
        return known.reindex(pages.index).fillna(0.0).astype(float).assign(clicks=pages["clicks"], section=pages["section"])

    @once
    def strengths(self) -> pd.DataFrame:
        """Earnings of sections, named groups, kinds and lengths of pages, per page and per search: `core.strength.STRENGTHS`."""
        pages = self.ledger
        kinds = pd.DataFrame({"level": "kind", "key": self.inputs.page_kinds, "page": pages.index}).dropna(subset=["key"])
        sizes = pd.DataFrame({"level": "length", "key": lengths(pages["words"]), "page": pages.index}).dropna(subset=["key"])
        known = pd.DataFrame({"level": "title", "key": formats(pages["title"]), "page": pages.index}).dropna(subset=["key"])
        members = pd.concat([self.pages.members, kinds, sizes, known], ignore_index=True)
        searches = self.inputs.monthly_searches
        demand = None if searches is None else searches.set_index("query")["demand"]
        return strengths(pages, self.query_map.mapped, demand, members, self.sums.windows.recent.days)

    @property
    def section_strength(self) -> pd.Series:
        """Clicks per search of the section of each page, relative to the rest of the site."""
        rows = self.strengths
        section = rows[rows["level"] == "section"].set_index("key")["strength"]
        return self.inputs.pages["section"].map(section)
