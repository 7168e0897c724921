"""Devices, countries, surfaces, channels and sources of searches and visits, joined by page."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core import reduce as reductions
from nibbet.core.splits import SPLITS, splits_of
from nibbet.kinds import SPLIT_BY
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.sums import Sums

VISIT_SOURCES = (
    "page channel source sessions sessions_reference change engagement_rate seconds_per_session conversions conversions_per_session revenue"
).split()
SEARCHED = ["clicks", "impressions", "position_sum", "placed", "clicks_reference", "clicks_plain", "expected_clicks"]
VISITED = ["sessions", "sessions_reference", "engaged_sessions", "engagement_seconds", "conversions", "revenue"]
UNKNOWN = "unknown"


@dataclass(frozen=True, eq=False)
class Splits:
    """The site and its pages by device, country, surface, channel and source."""

    context: Context
    inputs: Inputs
    sums: Sums
    expectation: Expectation

    @once
    def cells(self) -> pd.DataFrame:
        """One row per dimension, value and page (number): see `core.splits.splits_of`."""
        self.context.say("comparing devices, countries and channels")
        searched, visited = self._searched(), self._visited()
        cells = searched.merge(visited, on=["dimension", "value", "page"], how="outer")
        # tables without pages may have other values than those of pages
        several = cells.groupby("dimension")["value"].transform("nunique") > 1
        return cells.assign(value=cells["value"].where(cells["value"] != "", UNKNOWN))[several]

    def _searched(self) -> pd.DataFrame:
        parts = [pd.DataFrame(columns=["dimension", "value", "page", *SEARCHED])]
        for one in filter(self.inputs.varies, SPLIT_BY):
            rows = self.sums.by_dimension(one).rename(columns={"page_id": "page"})
            plain = self.expectation.by_dimension(one).rename(columns={"page_id": "page", "clicks": "clicks_plain"})
            rows = rows.merge(plain[["page", "value", "clicks_plain", "expected_clicks"]], on=["page", "value"], how="left")
            rows = rows.assign(dimension=one, placed=rows["impressions"].where(rows["position"].notna(), 0))
            rows = rows.assign(
                position_sum=(rows["position"] * rows["placed"]).fillna(0.0), clicks_reference=rows["clicks_reference"] * self.sums.scale
            )
            parts.append(rows.fillna({"clicks_plain": 0, "expected_clicks": 0})[["dimension", "value", "page", *SEARCHED]])
        return pd.concat(parts, ignore_index=True).astype(dict.fromkeys(SEARCHED, "float64")).astype({"page": "int64"})

    def _visited(self) -> pd.DataFrame:
        parts = [pd.DataFrame(columns=["dimension", "value", "page", *VISITED])]
        landings = self.inputs.joined.landings
        for one in ("device", "country", "channel", "source"):
            if landings is None or one not in landings.columns:
                continue
            rows = self.context.fetch(
                f"visit-splits-{one}",
                lambda one=one: reductions.visit_splits(landings, self.sums.windows, one),  # type: ignore[misc]
            )
            if rows["value"].nunique() < 2:
                continue
            rows = rows.rename(columns={"page_id": "page", **{f"{name}_recent": name for name in VISITED}}).assign(dimension=one)
            rows = self.inputs.visits_as_given(rows)
            rows["sessions_reference"] = rows["sessions_reference"].astype("float64") * self.sums.visits_scale
            parts.append(rows[["dimension", "value", "page", *VISITED]])
        return pd.concat(parts, ignore_index=True).astype(dict.fromkeys(VISITED, "float64")).astype({"page": "int64"})

    def visit_sources(self) -> pd.DataFrame:
        """The sources of the visits of each page, by channel: the columns VISIT_SOURCES, in descending order; none without landings."""
        if (landings := self.inputs.joined.landings) is None:
            return pd.DataFrame(columns=VISIT_SOURCES)
        rows = self.context.fetch("visits-page-source", lambda: reductions.source_sums(landings, self.sums.windows))
        rows = rows.rename(columns={f"{name}_recent": name for name in VISITED})
        rows = self.inputs.visits_as_given(rows.astype(dict.fromkeys(VISITED, "float64")))
        sessions = rows["sessions"].where(rows["sessions"] > 0)
        has_reference = "reference" in self.sums.windows.visits_in
        table = rows.assign(
            page=rows["page_id"].map(self.inputs.pages["page"]),
            sessions_reference=rows["sessions_reference"] * self.sums.visits_scale if has_reference else np.nan,
            engagement_rate=rows["engaged_sessions"] / sessions,
            seconds_per_session=rows["engagement_seconds"] / sessions,
            conversions_per_session=rows["conversions"] / sessions,
        )
        table["change"] = table["sessions"] - table["sessions_reference"]
        some = table[table["sessions"] + table["sessions_reference"].fillna(0) > 0]
        order = ["page", "sessions", "channel", "source"]
        return some.sort_values(order, ascending=[True, False, True, True], ignore_index=True)[VISIT_SOURCES]

    def table(self, page: str | None = None) -> pd.DataFrame:
        """The columns SPLITS for the site, or for one page by its address, without comparison of its values."""
        cells = self.cells
        if page is not None:
            pages = self.inputs.pages["page"]
            cells = cells[cells["page"].isin(pages.index[pages == page])]
        return splits_of(cells) if len(cells) else pd.DataFrame(columns=SPLITS)
