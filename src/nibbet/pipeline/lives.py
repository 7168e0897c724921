"""Long-term development of pages and topics."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core import over_time
from nibbet.core.decline import LEAST_EXPECTED
from nibbet.core.decline import trends as changes_of_level
from nibbet.core.ledger import NEW_DAYS
from nibbet.core.lives import LIVES, lives
from nibbet.core.season import SEASON_CLICKS, page_waves, season_calendar
from nibbet.pipeline.context import Context
from nibbet.pipeline.history import History
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Lives:
    """Lives of pages and topics, by their weeks."""

    context: Context
    inputs: Inputs
    sums: Sums
    history: History
    query_map: QueryMap

    def table(self) -> pd.DataFrame:
        """`core.lives.LIVES`, pages then topics, by clicks; no rows without days."""
        if not self.sums.windows.is_daily:
            return pd.DataFrame(columns=LIVES)
        pages = self._pages().assign(key=lambda t: t["key"].map(self.inputs.pages["page"]))
        parts = [pages] + ([self._topics()] if self.inputs.is_paired and self.sums.windows.has_queries_throughout else [])
        table = pd.concat([part for part in parts if len(part)] or [pages], ignore_index=True)
        return table.sort_values(["level", "clicks", "key"], ascending=[True, False, True], ignore_index=True)

    def _pages(self) -> pd.DataFrame:
        has_season = self.history.page_waves[1]
        calendar, sections = self.history.page_calendar, self.history.annual
        trends, weeks = self.history.trends, self.history.page_clicks
        return lives("page", trends, calendar, _kinds(trends, calendar, has_season, sections.known), weeks)

    def _topics(self) -> pd.DataFrame:
        grouped, pairs = self.query_map.grouped, self.query_map.pairs
        names = pd.Index(sorted(grouped["topic"].unique()))
        known = grouped[["query", "topic"]].assign(topic=names.get_indexer(pd.Index(grouped["topic"])))
        frame = self.context.engine.frame(known.astype({"query": "str", "topic": "int64"}).rename(columns={"query": "wanted"}))
        rows = self.context.fetch("topic-weeks", lambda: over_time.topic_weeks(self.inputs.joined.search, frame, self.sums.windows.as_of))
        ends = self.history.week_ends
        rows = rows[rows["back"] < len(ends)]
        total = rows.groupby("topic")["clicks"].sum()
        shown = np.sort(total[total >= LEAST_EXPECTED].index.to_numpy())
        if not len(shown):
            return pd.DataFrame(columns=LIVES)
        clicks = np.zeros((len(shown), len(ends)), dtype=np.int64)
        row = pd.Index(shown).get_indexer(pd.Index(rows["topic"]))
        clicks[row[row >= 0], len(ends) - 1 - rows["back"].to_numpy()[row >= 0]] = rows["clicks"].to_numpy()[row >= 0]
        leading = pairs.dropna(subset=["topic"]).groupby(["topic", "page"], observed=True)["impressions"].sum().reset_index()
        leading = leading.sort_values(["topic", "impressions", "page"], ascending=[True, False, True]).drop_duplicates("topic")
        section = (
            leading.set_index(leading["topic"].astype("str"))["page"].map(self.inputs.pages["section"]).reindex(names[shown]).fillna("")
        )
        code = pd.factorize(section, sort=True)[0].astype(np.int64)
        first = (clicks > 0).argmax(axis=1)
        began = np.where(first * 7 > NEW_DAYS, first, 0).astype(np.int64)  # asked, or answered, only since then
        changes = changes_of_level(clicks, code, began, ends).set_axis(names[shown])
        sure = ~(changes["real"] | changes["event_to"].notna()).to_numpy(bool) & (clicks.sum(axis=1) >= SEASON_CLICKS)
        waves, has_season = page_waves(clicks[sure], section[sure], ends, self.history.annual)
        calendar = season_calendar(waves, self.sums.windows.as_of)
        season = _kinds(changes, calendar, has_season, self.history.annual.known)
        return lives("topic", changes, calendar, season, pd.Series(clicks.sum(axis=1), index=changes.index))


def _kinds(trends: pd.DataFrame, calendar: pd.DataFrame, has_own_season: pd.Series, known: bool) -> pd.Series:
    """own, section, evergreen or unknown by key: keys with a lasting change or an event have no wave of their own; known: whether the data
    cover a year.
    """
    season = pd.Series(np.select([has_own_season, calendar["peak"].notna()], ["own", "section"], "evergreen"), index=calendar.index)
    return season.reindex(trends.index).fillna("evergreen") if known else pd.Series("unknown", index=trends.index)
