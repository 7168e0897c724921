"""Countries and languages of queries."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core import reduce as reductions
from nibbet.core.markets import MARKETS, SUMMED, market_table
from nibbet.pipeline.context import Context
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.splits import Splits
from nibbet.pipeline.sums import Sums

VISITED = ["sessions", "engaged_sessions", "conversions", "revenue"]


@dataclass(frozen=True, eq=False)
class Markets:
    """Countries and languages."""

    context: Context
    inputs: Inputs
    sums: Sums
    expectation: Expectation
    query_map: QueryMap
    measures: Measures
    splits: Splits

    def table(self) -> pd.DataFrame:
        """`core.markets.MARKETS`; no rows where neither a country nor another language is known."""
        demand, cells = self._foreign_queries(), self.splits.cells
        cells = cells[cells["dimension"] == "country"]
        if demand.empty and cells.empty:
            return pd.DataFrame(columns=MARKETS)
        countries = cells.groupby("value")[[*SUMMED, *VISITED]].sum(min_count=1)
        per_visit = float(self.measures.visit_value.loc[-1])
        return market_table(demand, countries, self.context.config.value.conversion, per_visit)

    def _foreign_queries(self) -> pd.DataFrame:
        """The unanswered queries in another language than that of the site, by country, with the gain of pages in it."""
        known = self.query_map.queries.dropna(subset=["language"])
        names = ["country", "query", "language", *SUMMED, "gain", "gain_low", "gain_high"]
        if known.empty or not self.inputs.is_paired:
            return pd.DataFrame(columns=names)
        frame = self.context.engine.frame(known[["query"]].astype("str").rename(columns={"query": "wanted"}))
        window = self.sums.windows.recent
        rows = self.context.fetch("asked-from", lambda: reductions.asked_from(self.inputs.joined.search, frame, window))
        rows = rows.sort_values(["country", "query"], ignore_index=True).astype(dict.fromkeys(SUMMED, "float64"))
        language = rows["query"].astype("str").map(known.astype({"query": "str"}).set_index("query")["language"].astype("str"))
        place = (rows["position_sum"] / rows["placed"].where(rows["placed"] > 0)).fillna(100.0).to_numpy()
        shown, clicks = rows["impressions"].to_numpy(), rows["clicks"].to_numpy()
        gains = self.measures.standing.gains(shown, clicks, np.maximum(place, 1.0), self.expectation.curve, window.days)
        return rows.assign(language=language, **gains)[names]
