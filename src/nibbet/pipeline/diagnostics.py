"""Pages compared with their peers, and their segments and channels."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core import reduce as reductions
from nibbet.core.events import EVENTS, event_rates
from nibbet.core.join.grain import step_of
from nibbet.core.peers import ENGAGEMENT, SEGMENTS, beside_peers, engagement_by_channel, judged_pulls, odd_segments, rates_of_parts
from nibbet.core.pull import weighted_position
from nibbet.core.tables import rows_at
from nibbet.kinds import SPLIT_BY
from nibbet.pipeline.context import Context
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Diagnostics:
    """Deviations from what is usual on this site."""

    context: Context
    inputs: Inputs
    sums: Sums
    expectation: Expectation
    pages: Pages
    query_map: QueryMap
    measures: Measures

    def peers(self) -> pd.DataFrame:
        """Members of sections and groups that fall below or rise above their rates."""
        result = beside_peers(self.measures.unbranded, self.pages.members)
        return result.assign(page=result["page"].map(self.inputs.pages["page"]))

    def parts(self) -> pd.DataFrame:
        """Sums and rates of the site, its sections and named groups."""
        return rates_of_parts(self.measures.unbranded, self.pages.members)

    def segments(self) -> pd.DataFrame:
        """Pages that do well in one country, device or surface and badly in another."""
        rows, visits = [], []
        landings = self.inputs.joined.landings
        self.context.say("comparing segments")
        for one in filter(self.inputs.varies, SPLIT_BY):
            sums = self.expectation.by_dimension(one)
            rows.append(sums.rename(columns={"page_id": "page"}).assign(dimension=one))
            if landings is not None and one in landings.columns and len(sums):
                result = self.context.fetch(
                    f"visits-page-{one}",
                    lambda one=one: reductions.visit_windows(landings, self.sums.windows, "page_id", one),  # type: ignore[misc]
                )
                result = result.rename(
                    columns={"page_id": "page", one: "value", "sessions_recent": "sessions", "engaged_sessions_recent": "engaged_sessions"}
                )
                result = self.inputs.visits_as_given(result)
                visits.append(result[["page", "value", "sessions", "engaged_sessions"]].dropna().assign(dimension=one))
        if not rows:
            return pd.DataFrame(columns=SEGMENTS)
        table = pd.concat(rows, ignore_index=True).sort_values(["dimension", "page", "value"], ignore_index=True)
        table["position"] = weighted_position(table["position_sum"], table["placed"])
        seen = pd.concat(visits, ignore_index=True) if visits else None
        result = odd_segments(table, seen)
        return result.assign(page=result["page"].map(self.inputs.pages["page"]))

    def pulls(self) -> pd.DataFrame:
        """Pull with interval and flag of pages and pairs, without the brand, by clicks lost."""
        pages = self.measures.unbranded.reset_index(names="number")
        pages = pd.DataFrame(
            {
                "page": pages["number"],
                "clicks": pages["clicks_plain"],
                "expected_clicks": pages["expected_plain"],
                "position": pages["position_plain"],
            }
        )
        pairs = rows_at(self.query_map.pairs, ~self.query_map.pairs["brand"], ["page", "query", "clicks", "expected_clicks", "position"])
        result = judged_pulls(pages, pairs)
        return result.assign(page=result["page"].map(self.inputs.pages["page"]))

    def engagement(self) -> pd.DataFrame:
        """Visits by page and channel, compared with the same channel in the section."""
        if (landings := self.inputs.joined.landings) is None:
            return pd.DataFrame(columns=ENGAGEMENT)
        rows = self.context.fetch("visits-page-channel", lambda: reductions.channel_sums(landings, self.sums.windows))
        rows = self.inputs.visits_as_given(rows).rename(columns={"page_id": "page"})
        rows = rows.astype({name: "float64" for name in rows if name not in ("page", "channel")}).sort_values(
            ["page", "channel"], ignore_index=True
        )
        result = engagement_by_channel(rows[rows["sessions"] > 0].reset_index(drop=True), self.pages.peer_groups)
        return result.assign(page=result["page"].map(self.inputs.pages["page"]))

    def events(self) -> pd.DataFrame:
        """Each event on each page, compared with pages of its kind: EVENTS."""
        if (events := self.inputs.joined.table("events")) is None:
            return pd.DataFrame(columns=EVENTS)
        dates = self.context.fetch("event-dates", lambda: events.filter(events.date.notnull(), ~events.undated).select("date").distinct())[
            "date"
        ]
        rows = self.context.fetch("event-sums", lambda: reductions.event_sums(events, self.sums.windows, step_of(dates)))
        rows = rows.rename(columns={"page_id": "page"})
        pages, visits = self.pages.table, self.sums.visits
        before = np.nan if visits is None else self._visits_before.reindex(pages.index)
        sessions = pd.DataFrame(
            {"group": self.pages.peer_groups, "sessions": pages["sessions"], "sessions_reference": before}, index=pages.index
        )
        result = event_rates(rows.sort_values(["page", "event"], ignore_index=True), sessions)
        return result.assign(page=result["page"].map(self.inputs.pages["page"]))

    @property
    def _visits_before(self) -> pd.Series:
        """Sessions of all channels in the reference window, by page number."""
        landings = self.inputs.joined.landings
        assert landings is not None, "asked for where there are visits"
        rows = self.context.fetch("visits-page", lambda: reductions.visit_windows(landings, self.sums.windows, "page_id"))
        sessions: pd.Series = rows.set_index("page_id")["sessions_reference"].astype(float)
        return sessions
