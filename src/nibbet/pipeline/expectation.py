"""Expected clicks by the CTR curve of the site, for every page and query."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from nibbet.core import reduce as reductions
from nibbet.core.curve import SEGMENT, Curve, country_levels, learn_curve
from nibbet.core.pull import weighted_position
from nibbet.core.split import Sight, learn_sight, searched
from nibbet.core.unnamed import with_unnamed
from nibbet.once import once

if TYPE_CHECKING:
    import ibis


from nibbet.pipeline.context import Context
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.sums import Sums

#: rows and pages from which the CTR curve is learnt from a sample of pages
CURVE_ROWS, CURVE_PAGES = 1_000_000, 20_000


@dataclass(frozen=True)
class Calibration:
    """The calibration shared by all windows, so that a page and its comparison are consistent: learnt once for a site.

    curve: the CTR curve; countries: country, level of those with a different CTR; sight: how far searchers look.
    """

    curve: Curve
    countries: pd.DataFrame
    sight: Sight


@dataclass(frozen=True, eq=False)
class Expectation:
    """The CTR curve, the levels of countries, the sight, and the pairs with their expected clicks."""

    context: Context
    inputs: Inputs
    sums: Sums
    given: Calibration | None = None

    @property
    def _page_stride(self) -> int:
        """One page in so many is used to learn the CTR curve."""
        rows = sum(one["rows_used"] for one in self.inputs.joined.account["sources"] if one["kind"] == "search")
        return int(max(1, min(rows // CURVE_ROWS, len(self.inputs.joined.pages) // CURVE_PAGES)))

    @once
    def _curve_rows(self) -> ibis.Table:
        """The rows from which the CTR curve is learnt, summed."""

        def make() -> ibis.Table:
            return reductions.curve_rows(self.inputs.joined.search, self.sums.windows, of=self.inputs.curve_grain, every=self._page_stride)

        return self.context.table("curve-rows", make)

    @once
    def curve(self) -> Curve:
        """The site's own CTR curve, learnt from the long window."""
        if self.given is not None:
            return self.given.curve
        self.context.say("learning the CTR curve")
        cells = self.context.fetch("curve", lambda: reductions.curve_cells(self._curve_rows))
        kinds = [cells[name].astype("category").cat.codes.to_numpy() for name in SEGMENT]
        order = np.lexsort([cells["page"].to_numpy(), cells["bin"].to_numpy(), *kinds])  # the engine guarantees no order
        return learn_curve(cells.iloc[order].reset_index(drop=True))

    @once
    def countries(self) -> pd.DataFrame:
        """CTR of countries relative to the site at the same position: only countries that differ."""
        if self.given is not None:
            return self.given.countries
        if not self.inputs.varies("country"):
            return pd.DataFrame(columns=["country", "level", "clicks", "expected"])
        cells = self.context.fetch("country-cells", lambda: reductions.country_cells(self._curve_rows))
        return country_levels(cells.sort_values([*SEGMENT, "bin", "country"]), self.curve.rates)

    @property
    def rates(self) -> reductions.Rates:
        """The CTR curve in the engine."""
        rates = self.curve.rates[[*SEGMENT, "bin", "rate", "slope"]]
        kinds = {"device": "str", "surface": "str", "brand": "bool", "bin": "int32", "rate": "float64", "slope": "float64"}
        levels = self.countries[["country", "level"]]
        countries = self.context.engine.frame(levels.astype({"country": "str", "level": "float64"})) if len(levels) else None
        return reductions.Rates(self.context.engine.frame(rates.astype(kinds)), countries)

    @property
    def _target_table(self) -> ibis.Table | None:
        """query: the target queries of editors, in the engine; None without any."""
        targets = self.inputs.target_queries
        return None if targets is None or targets.empty else self.context.engine.frame(targets[["query"]].astype("str"))

    @once
    def _spelled_pairs(self) -> ibis.Table:
        """The sums of pages and queries, with expected clicks. Temporary: the stored copy has integer query ids."""
        rates = self.rates
        self.context.say("summing pages and queries")
        return self.context.engine.keep(reductions.pair_sums(self.inputs.joined.search, self.sums.windows, rates, of=self.inputs.subject))

    @property
    def _query_numbers(self) -> ibis.Table:
        """query, query_id: all queries of the pairs and of editors, numbered in alphabetical order."""
        return self.context.table("asked", lambda: reductions.numbered(self._spelled_pairs, self._target_table))

    def numbered_pairs(self) -> ibis.Table:
        """The sums of pages and queries with query ids, the form in which they are stored."""
        spelled_pairs = self._spelled_pairs
        self.context.say("numbering queries")
        return reductions.coded(spelled_pairs, self._query_numbers)

    @once
    def pairs(self) -> pd.DataFrame:
        """One row per (page, query) of the recent or reference window: sums of both, expected clicks, positions, days."""
        pairs = self.context.fetch("pairs", self.numbered_pairs)
        numbers = self.context.fetch("asked", lambda: self._query_numbers)
        if not numbers["query_id"].is_monotonic_increasing:  # some engines guarantee no order
            numbers = numbers.sort_values("query_id")
        texts = pd.Index(numbers["query"].astype("str"))
        pairs["query"] = pd.Categorical.from_codes(pairs.pop("query_id").to_numpy(), dtype=pd.CategoricalDtype(texts))
        pairs = self._with_places(pairs)
        if (demand := self.inputs.demand_rows) is not None:
            known = searched(demand, self.sums.windows).set_index("query").reindex(texts)
            for name in known:
                pairs[name] = known[name].to_numpy(float)[pairs["query"].cat.codes]
        return pairs

    @once
    def both_windows(self) -> pd.DataFrame:
        """The rows that cover both windows: `pairs` and, with an empty query, what each page has beyond them; or, where queries are named in
        only one of the windows, the totals of pages with an empty query.
        """
        w = self.sums.windows
        if self.inputs.is_paired and self.inputs.has_grain("page") and w.has_reference and w.compares_queries:
            return self._comparable(with_unnamed(self._named_in_both, self.sums.pages, self.curve))
        return self._named_in_both

    @once
    def _named_in_both(self) -> pd.DataFrame:
        """`pairs`, or, where queries are named in only one of the windows, the totals of pages with an empty query."""
        if not self.inputs.is_paired or not self.sums.windows.has_reference or self.sums.windows.compares_queries:
            return self.pairs
        rates = self.rates
        rows = self.context.fetch(
            "page-pairs", lambda: reductions.pair_sums(self.inputs.joined.search, self.sums.windows, rates, of="page")
        )
        rows = self._with_places(rows.sort_values("page", ignore_index=True))
        return rows.assign(query=rows["query"].astype("category"))

    @once
    def pageless_queries(self) -> pd.DataFrame:
        """Totals of queries whose pages are unknown: query, brand, and the sums of `core.reduce.pair_sums`; by impressions."""
        names = ["query", "brand", "clicks", "impressions", "position_sum", "placed", "expected_clicks"]
        if self.inputs.is_paired or not self.inputs.has_grain("query"):
            none = pd.DataFrame({name: pd.Series(dtype="float64") for name in names})
            return none.astype({"query": "str", "brand": "bool"}).assign(position=np.nan)
        rows = self._query_sums
        rows = rows[rows["impressions"] > 0].sort_values(["impressions", "query"], ascending=[False, True], ignore_index=True)[names]
        rows = rows.astype({"query": "str"}).assign(brand=rows["brand"].eq(True))
        return rows.assign(position=weighted_position(rows["position_sum"], rows["placed"]))

    @once
    def _query_sums(self) -> pd.DataFrame:
        """Totals of queries without their pages, in both windows: see `core.reduce.pair_sums`."""
        rates = self.rates
        self.context.say("summing queries")
        return self.context.fetch(
            "lone-queries", lambda: reductions.pair_sums(self.inputs.joined.search, self.sums.windows, rates, of="query")
        )

    @once
    def query_totals_in_both(self) -> pd.DataFrame:
        """Totals of queries in both windows as rows of `pairs`, with -1 for the unknown page."""
        rows = self._query_sums.sort_values("query", ignore_index=True)
        return self._with_places(rows).assign(page=-1, brand=rows["brand"].eq(True), query=rows["query"].astype("category"))

    def by_dimension(self, dimension: str) -> pd.DataFrame:
        """One row per page_id and value of device, country or surface, without the brand: sums and expected clicks of the recent window."""

        def make() -> ibis.Table:
            return reductions.segment_sums(self.inputs.joined.search, self.sums.windows, self.rates, dimension, of=self.inputs.subject)

        return self.context.fetch(f"segment-{dimension}", make)

    @once
    def sight(self) -> Sight:
        """How far the searchers of this site look, learnt from pairs that moved between the windows."""
        return self.given.sight if self.given is not None else learn_sight(self._named_in_both)

    @property
    def calibration(self) -> Calibration:
        """The curve, the levels of countries and the sight."""
        return Calibration(self.curve, self.countries, self.sight)

    def _with_places(self, pairs: pd.DataFrame) -> pd.DataFrame:
        """Sums of `core.reduce.pair_sums` with their days with impressions, and the position in both windows."""
        seen = [name for name in map(str, pairs) if name.startswith("seen_")]
        days = sum((np.bitwise_count(pairs[name].to_numpy(np.int64)).astype(np.int64) for name in seen), np.zeros(len(pairs), np.int64))
        pairs = pairs.drop(columns=seen).assign(days=days)
        for suffix in ("", "_reference"):
            pairs[f"position{suffix}"] = weighted_position(pairs[f"position_sum{suffix}"], pairs[f"placed{suffix}"])
        return self._comparable(pairs)

    def _comparable(self, pairs: pd.DataFrame) -> pd.DataFrame:
        """Pairs of both windows; where impressions of the reference are counted differently, without its positions and expected clicks."""
        if self.sums.windows.are_counted_alike:
            return pairs
        unknown = {f"{name}_reference": pairs[f"{name}_reference"] * 0 for name in ("position_sum", "placed", "expected_clicks")}
        return pairs.assign(**unknown, position_reference=np.nan)
