"""Results from the weeks of the whole history: lasting changes, events, seasons."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

import numpy as np
import pandas as pd

from nibbet.core import over_time
from nibbet.core.change import unsteadiness
from nibbet.core.decline import LEAST_EXPECTED, TRENDS
from nibbet.core.decline import trends as changes_of_level
from nibbet.core.ledger import (
    NEW_DAYS,
)
from nibbet.core.season import (
    CALENDAR,
    SEASON_CLICKS,
    YEAR_WEEKS,
    Annual,
    annual_index,
    page_waves,
    season_calendar,
    weekday_index,
    weekend_shares,
)
from nibbet.core.starts import starts
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.successors import Successors
from nibbet.pipeline.sums import Sums

#: share of the clicks of a section from which the pages that did not change show its season
MOST = 0.5
SEASONS = ["level", "key", "season", *CALENDAR, "weekend", "weekdays"]


@dataclass(frozen=True, eq=False)
class History:
    """Pages and sections by week; the same for all compared windows."""

    context: Context
    inputs: Inputs
    sums: Sums
    successors: Successors

    @once
    def _section_weeks(self) -> pd.DataFrame:
        """One row per section and whole week up to the last complete day: section, end, clicks; without those of pages that came in and were
        shown for less than a year, which tell no season, nor those of pages whose level changed, as far as the others have MOST of the rest.
        """
        days = self.inputs.section_days
        end = pd.Timestamp(self.inputs.joined.as_of)
        age = (end - days["date"]).dt.days // 7
        whole = (end - pd.Timestamp(self.sums.windows.first)).days + 1
        weeks = days.assign(end=end - pd.to_timedelta(age * 7, unit="D"))[(age >= 0) & (age < whole // 7)]
        sums = weeks.groupby(["section", "end"])["clicks"].sum().unstack(fill_value=0)
        shown, clicks, ends = self._weeks
        passing = self._passing
        changed = self.trends["real"].to_numpy(bool) & ~np.isin(shown, passing)
        short = self.week_table(passing, len(ends))

        def without(table: pd.DataFrame, pages: np.ndarray, had: np.ndarray) -> pd.DataFrame:
            section = self.inputs.pages["section"].reindex(pages).to_numpy()
            moved = pd.DataFrame(had, columns=ends).groupby(section).sum().reindex_like(table).fillna(0)
            return (table - moved).clip(lower=0)

        sums = without(sums, passing, short)
        rest = without(sums, shown[changed], clicks[changed])
        left = rest.where(rest.sum(axis=1) >= MOST * sums.sum(axis=1), sums, axis=0)
        result: pd.DataFrame = left.reset_index().melt("section", var_name="end", value_name="clicks").astype({"end": "datetime64[ns]"})
        return result

    @property
    def _passing(self) -> np.ndarray:
        """The numbers of pages that had clicks for less than a year since they came, and of those whose event is surely over."""
        born = pd.concat([self.successors.pages.life_facts["born"], self.successors.first_seen], axis=1).min(axis=1, skipna=False)
        newest = self._page_weeks.groupby("page_id")["back"].min()
        last = pd.Timestamp(self.sums.windows.as_of) - pd.to_timedelta(newest * 7, unit="D")
        short = newest.index[((last - born.reindex(newest.index)).dt.days < YEAR_WEEKS * 7).to_numpy()]
        over = self.events.index[self.events["event_sure"].to_numpy(bool)]
        return np.union1d(short.to_numpy(np.int64), over.to_numpy(np.int64))

    @once
    def _page_weeks(self) -> pd.DataFrame:
        """One row per page and week with clicks: page_id, back (whole weeks before the newest), clicks; those of an old address counted with
        the page that took its place.
        """
        rows = self.context.fetch("weeks-back", lambda: over_time.weeks_back(self.inputs.joined.search, self.sums.windows.as_of))
        followed = self.successors.followed[rows["page_id"].to_numpy()]
        if (followed == rows["page_id"]).all():
            return rows
        return rows.assign(page_id=followed).groupby(["page_id", "back"])["clicks"].sum().reset_index()

    def week_table(self, pages: np.ndarray, count: int) -> np.ndarray:
        """Clicks of pages (by number) in the last whole weeks, oldest first; the newest ends with the last complete day."""
        rows = self._page_weeks
        table = np.zeros((len(pages), count), dtype=np.int32)
        row = pd.Index(pages).get_indexer(rows["page_id"])
        inside = (row >= 0) & rows["back"].between(0, count - 1).to_numpy()
        table[row[inside], count - 1 - rows["back"].to_numpy()[inside]] = rows["clicks"].to_numpy()[inside]
        return table

    @property
    def week_ends(self) -> pd.DatetimeIndex:
        """The last days of all whole weeks of the data, oldest first."""
        first, last = pd.Timestamp(self.sums.windows.first), pd.Timestamp(self.sums.windows.as_of)
        count = ((last - first).days + 1) // 7
        return pd.DatetimeIndex(last - pd.to_timedelta(np.arange(count - 1, -1, -1) * 7, unit="D"))

    @once
    def _weeks(self) -> tuple[np.ndarray, np.ndarray, pd.DatetimeIndex]:
        """Numbers of the pages with enough clicks, their clicks by whole weeks up to the last complete day, the ends of these weeks."""
        ends = self.week_ends
        rows = self._page_weeks
        total = rows[rows["back"] < len(ends)].groupby("page_id")["clicks"].sum()
        shown = np.sort(total[total >= LEAST_EXPECTED].index.to_numpy())
        return shown, self.week_table(shown, len(ends)), ends

    def unsteadiness(self, until: date) -> pd.Series:
        """How unsteady the clicks of each page were before a day: see `core.change.unsteadiness`; pages with too few clicks are left out."""
        shown, clicks, ends = self._weeks
        return pd.Series(unsteadiness(clicks[:, np.asarray(ends < pd.Timestamp(until))]), index=shown)

    def weekly(self, pages: list[str]) -> pd.DataFrame:
        """Clicks of whole weeks up to the last complete day: a row per page (by address), a column per week, named by its last day."""
        number = pd.Series(self.inputs.pages.index, index=self.inputs.pages["page"]).reindex(pages)
        known, ends = np.flatnonzero(number.notna()), self.week_ends
        clicks = np.zeros((len(pages), len(ends)), dtype=np.int64)
        clicks[known] = self.week_table(number.iloc[known].to_numpy(np.int64), len(ends))
        return pd.DataFrame(clicks, index=pd.Index(pages, name="page"), columns=ends.strftime("%Y-%m-%d"))

    @once
    def trends(self) -> pd.DataFrame:
        """The development of every page, by page number: see `core.decline.trends`; pages with too few clicks are left out."""
        shown, clicks, ends = self._weeks
        self.context.say("looking for lasting changes")
        first, last = pd.Timestamp(self.sums.windows.first), pd.Timestamp(self.sums.windows.as_of)
        seen = self.successors.first_seen.reindex(shown)
        late = (seen - first).dt.days.fillna(0).to_numpy()
        offset = ((last - first).days + 1) % 7
        began = np.where(late > NEW_DAYS, np.maximum(late - offset, 0) // 7, 0).astype(np.int64)
        section = pd.factorize(self.inputs.pages["section"].reindex(shown), sort=True)[0].astype(np.int64)
        return changes_of_level(clicks, section, began, ends).set_axis(shown)

    @once
    def events(self) -> pd.DataFrame:
        """event_from, event_to, event_share, event_sure of the pages whose clicks come from an event that is over."""
        names = ["event_from", "event_to", "event_share", "event_sure"]
        return self.trends.loc[self.trends["event_to"].notna(), names]

    @once
    def annual(self) -> Annual:
        """The annual wave of each section."""
        return annual_index(self._section_weeks)

    @once
    def page_waves(self) -> tuple[Annual, pd.Series]:
        """The annual wave of every page with enough clicks, and whether it is its own: pages with a lasting change, or an event that
        is over, have that of their section.
        """
        shown, clicks, ends = self._weeks
        sure = ~(self.trends["real"] | self.trends["event_to"].notna()).to_numpy(bool) & (clicks.sum(axis=1) >= SEASON_CLICKS)
        section = self.inputs.pages["section"].reindex(shown[sure])
        return page_waves(clicks[sure], section, ends, self.annual)

    @once
    def page_calendar(self) -> pd.DataFrame:
        """The season of each page with enough clicks, by number: see `core.season.season_calendar`."""
        return season_calendar(self.page_waves[0], self.sums.windows.as_of)

    @property
    def page_clicks(self) -> pd.Series:
        """Clicks of all whole weeks, of the pages with enough, by number."""
        shown, clicks, _ = self._weeks
        return pd.Series(clicks.sum(axis=1), index=shown)

    def starts(self, days: int) -> pd.DataFrame:
        """Pages first seen in the last `days`, by number, with first_seen and their start compared with earlier new ones:
        `core.starts.STARTS`.
        """
        first, last = pd.Timestamp(self.sums.windows.first), pd.Timestamp(self.sums.windows.as_of)
        seen = self.successors.first_seen
        born = seen[(seen - first).dt.days > NEW_DAYS]
        offset, count = ((last - first).days + 1) % 7, ((last - first).days + 1) // 7
        late = (born - first).dt.days.to_numpy()
        began = np.ceil((late - offset) / 7).clip(0, count).astype(np.int64)  # its first complete week
        young = ((last - born).dt.days < days).to_numpy() & self.sums.windows.is_daily  # months do not show when a page began
        weeks = self.week_table(born.index.to_numpy(), count).astype(np.int64)
        return starts(weeks, began, young).set_axis(born.index[young]).assign(first_seen=born[young])

    def season_table(self) -> pd.DataFrame:
        """The season of each section and of each page with enough clicks: SEASONS."""
        sections = season_calendar(self.annual, self.sums.windows.as_of).rename_axis("key").reset_index().assign(level="section")
        week = weekday_index(self.inputs.section_days)
        sections["weekend"] = sections["key"].map(week[[5, 6]].mean(axis=1))
        has = sections["peak"].notna()
        sections["season"] = np.where(has, "own", "evergreen" if self.annual.known else "unknown")
        (waves, has_season), pages = self.page_waves, self.page_calendar
        kinds = np.select([has_season, pages["peak"].notna()], ["own", "section"], "evergreen") if waves.known else "unknown"
        pages = pages.assign(level="page", season=kinds, key=self.inputs.pages["page"].reindex(pages.index))
        weekend = sections.set_index("key")["weekend"]
        pages["weekend"], pages["weekdays"] = self._weekends(pages.index, self.inputs.pages["section"].reindex(pages.index).map(weekend))
        sections = sections.assign(weekdays="own")
        pages = pages.sort_values(["height", "key"], ascending=[False, True])
        result = pd.concat([sections.sort_values("key"), pages] if waves.known else [sections], ignore_index=True)
        return result.astype({"weekend": "float64"})[SEASONS]

    def _weekends(self, pages: pd.Index, usual: pd.Series) -> tuple[np.ndarray, np.ndarray]:
        """weekend and weekdays (own, section; unknown for undated rows) of pages; usual: the weekend of their sections."""
        windows = self.sums.windows
        if windows.step != "day":
            return np.full(len(pages), np.nan), np.full(len(pages), "unknown")
        window = windows.long
        rows = self.context.fetch("weekends", lambda: over_time.weekends(self.inputs.joined.search, window))
        sums = rows.set_index("page_id").reindex(pages).fillna(0.0)
        share = float((pd.date_range(window.start, window.end).day_of_week >= 5).mean())
        clicks, weekend = (sums[name].to_numpy(float) for name in ("clicks", "weekend"))
        values, has_pattern = weekend_shares(clicks, weekend, usual.fillna(1.0).to_numpy(float), share)
        return values, np.where(has_pattern, "own", "section")

    def trend_table(self) -> pd.DataFrame:
        """Lasting falls and rises, life and start of pages: TRENDS, by q_value."""
        rows = self.trends.assign(page=self.inputs.pages["page"].reindex(self.trends.index))[TRENDS]
        return rows.sort_values(["real", "q_value", "page"], ascending=[False, True, True], ignore_index=True)
