"""Sums of rows in the windows, per page and other dimensions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core import over_time
from nibbet.core import reduce as reductions
from nibbet.core.curve import places_tell
from nibbet.core.join.spans import reaches
from nibbet.core.truncated import is_cut, with_unlisted
from nibbet.core.windows import Windows, missing_days, missing_search_days, weekday_scale
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.inputs import Inputs


@dataclass(frozen=True, eq=False)
class Sums:
    """The sums by the engine for one pair of windows."""

    context: Context
    inputs: Inputs
    given: Windows | None = None

    @property
    def windows(self) -> Windows:
        """The windows given, else those of the settings."""
        return self.given or self.inputs.windows

    @once
    def scale(self) -> float:
        """The factor that makes reference sums comparable with the recent window in length, by the days with rows, and mix of weekdays."""
        return self.scale_of(self.windows)

    def scale_of(self, windows: Windows) -> float:
        """The same for other windows."""
        days = self.inputs.days
        return weekday_scale(days, windows.recent, windows.reference, missing_search_days(days))

    @once
    def visits_scale(self) -> float:
        """The same for visits, which may lack other days: those without any from search, where channels are known."""
        visits = self.visit_days
        counts = visits["organic"].fillna(visits["sessions"])
        there = visits[counts > 0]
        if there.empty:
            return self.scale
        return weekday_scale(self.inputs.days, self.windows.recent, self.windows.reference, missing_days(there["date"], counts[there.index]))

    @once
    def visit_days(self) -> pd.DataFrame:
        """One row per day with visits: date, sessions, organic; empty without landings or sessions."""
        if (landings := self.inputs.joined.landings) is None or "sessions" not in self.inputs.joined.given["landings"]:
            return pd.DataFrame({"date": pd.to_datetime([]), "sessions": [], "organic": []})
        result = self.context.fetch("visit-days", lambda: over_time.visit_days(landings))
        return result.assign(date=pd.to_datetime(result["date"]))

    @once
    def compares_totals_of_queries(self) -> bool:
        """Whether both windows have totals of queries without their pages, and not the queries of pages."""
        w, covers = self.windows, [cover for cover in self.inputs.joined.covers if cover.kind == "search"]
        alone = self.inputs.has_grain("query") and not (self.inputs.is_paired and w.compares_queries)
        return alone and all(reaches(window, covers, "query") for window in (w.recent, w.reference))

    @once
    def pages(self) -> pd.DataFrame:
        """One row per page that search shows, by its number: the columns of `core.reduce.page_sums`; pages that a cut list lacks have the sums
        of their queries.
        """
        return self._listed[0]

    @property
    def unlisted(self) -> int:
        """How many pages a cut list lacks."""
        return self._listed[1]

    @once
    def _listed(self) -> tuple[pd.DataFrame, int]:
        self.context.say("summing pages")
        search, w = self.inputs.joined.search, self.windows
        sums = self.context.fetch("pages", lambda: reductions.page_sums(search, w)).set_index("page_id")
        windows = {"recent": w.recent, "reference": w.reference, "long": w.long}
        labels = [label for label, window in windows.items() if window.spans and is_cut(window, self.inputs.cut_lists)]
        if not labels:
            return sums, 0
        wanted = {label: (windows[label], reductions.SUMS) for label in labels}
        of_queries = self.context.fetch(
            "listed-queries", lambda: reductions.windowed(reductions.pair_rows(search), wanted, ["page_id"], role="pair")
        )
        return with_unlisted(sums, of_queries.set_index("page_id"), labels)

    @once
    def places_tell(self) -> bool:
        """Whether the mean positions of pages say where they are found: see `core.curve.places_tell`."""
        sums = self.pages
        names = ("clicks_recent", "impressions_recent", "position_sum_recent", "placed_recent")
        clicks, shown, position_sum, placed = (sums[name].fillna(0).to_numpy(np.float64) for name in names)
        return places_tell(clicks, shown, np.divide(position_sum, placed, out=np.zeros(len(sums)), where=placed > 0))

    @property
    def rows_placed(self) -> bool:
        """Whether the positions of `Expectation.both_windows` say where its rows are found: those of queries do."""
        return not self.rows_selected and (self._of_queries or self.places_tell)

    @property
    def _of_queries(self) -> bool:
        """Whether the rows of `Expectation.both_windows` are those of queries."""
        return self.inputs.is_paired and (not self.windows.has_reference or self.windows.compares_queries)

    @once
    def rows_selected(self) -> bool:
        """Whether the rows from which changes are split were selected by their clicks: see `core.truncated.selected_days`."""
        grain = "pair" if self._of_queries else "page"
        return self.windows.step != "month" and grain in set(self.inputs.selected_days["grain"])

    @property
    def page_counts(self) -> pd.DataFrame:
        """key (page number, in order), recent and reference (clicks), impressions and impressions_reference of every page; not scaled."""
        sums = self.pages.reindex(self.inputs.pages.index).fillna(0)
        names = {"recent": "clicks_recent", "reference": "clicks_reference", "impressions": "impressions_recent"}
        counts = {mine: sums[name].to_numpy() for mine, name in names.items()}
        return pd.DataFrame({"key": sums.index, **counts, "impressions_reference": sums["impressions_reference"].to_numpy()})

    @once
    def visits(self) -> pd.DataFrame | None:
        """One row per page with visits, by its number: the columns of `core.reduce.visit_sums`; None without landings."""
        if (landings := self.inputs.joined.landings) is None:
            return None
        sums = self.context.fetch("visits", lambda: reductions.visit_sums(landings, self.windows))
        return self.inputs.visits_as_given(sums.set_index("page_id").astype(float, errors="ignore"))

    def visits_by(self, by: str) -> pd.DataFrame | None:
        """Visits of both windows by page_id, channel or source; None where landings do not cover both."""
        if (landings := self.inputs.joined.landings) is None or len(self.windows.visits_in) < 2:
            return None
        sums = self.context.fetch(f"visits-{by}", lambda: reductions.visit_windows(landings, self.windows, by))
        return self.inputs.visits_as_given(sums.astype({name: "float64" for name in sums if name != by}))

    def by_dimension(self, dimension: str) -> pd.DataFrame:
        """Sums of pages by device, country or surface: page_id, value, and both windows."""
        return self.context.fetch(f"split-{dimension}", lambda: reductions.splits(self.inputs.joined.search, self.windows, dimension))

    @property
    def hits(self) -> pd.DataFrame | None:
        """hits by people and their first day, by page number; None without a server log."""
        if (hits := self.inputs.joined.table("hits")) is None:
            return None
        return self.context.fetch("hit-sums", lambda: reductions.hit_sums(hits, self.windows)).set_index("page_id")
