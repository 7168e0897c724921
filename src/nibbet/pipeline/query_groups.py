"""Groups of queries: those in the settings, and ad-hoc ones by words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import pandas as pd

from nibbet.core.compare import CHANGES, nothing
from nibbet.core.members import queries_in_groups
from nibbet.core.query_groups import QUERY_GROUPS, REST, queries_of_groups, rates_of_groups
from nibbet.core.shares import EARNED, earned_by, nothing_earned
from nibbet.core.tables import THIN_CLICKS
from nibbet.core.words import numbered
from nibbet.once import once
from nibbet.pipeline.comparison import Comparison
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.query_map import QueryMap

#: columns of a group from the table of changes
CHANGE = ["clicks_reference", "change", "change_share", "change_low", "change_high", "real"]


@dataclass(frozen=True, eq=False)
class QueryGroups:
    """Groups of queries, compared with the rest of the site."""

    inputs: Inputs
    query_map: QueryMap
    measures: Measures

    @once
    def _rows(self) -> tuple[pd.DataFrame, pd.Series]:
        """The query map with queries by number, and their texts by number."""
        if len(rows := self.query_map.pageless_in_topics):
            code, known = pd.factorize(rows["query"])
            return rows.assign(query=code, page=-1), pd.Series(known).astype("str")
        code, texts = numbered(self.query_map.pairs)
        return self.query_map.pairs.assign(query=code), pd.Series(texts).astype("str").reset_index(drop=True)

    def members(self, groups: Mapping[str, Sequence[str]]) -> pd.DataFrame:
        """group, query (text): the queries of each group. Raises ConfigError for an invalid expression."""
        return queries_in_groups(self._rows[1], groups)

    def _members_of(self, name: str, words: Sequence[str]) -> pd.DataFrame:
        return queries_in_groups(self._rows[1], {name: list(words)}, place="words")

    def _numbered(self, members: pd.DataFrame) -> pd.DataFrame:
        number = pd.Index(self._rows[1]).get_indexer(members["query"])
        return members.assign(query=number)

    def rates(self, members: pd.DataFrame, groups: list[str], changes: pd.DataFrame, *, rest: bool = True) -> pd.DataFrame:
        """Totals and changes of each group: QUERY_GROUPS, CHANGE and EARNED; with `rest`, a last row sums the queries in no group."""
        table = rates_of_groups(self._rows[0], self._numbered(members), groups, rest=rest)
        table = table.join(self._earned(members), on="group")
        known = changes.set_index("key").rename(columns={"reference": "clicks_reference"})[CHANGE]
        return table.join(known, on="group")[[*QUERY_GROUPS, *CHANGE, *EARNED]].astype({"real": "boolean"})

    def _earned(self, members: pd.DataFrame) -> pd.DataFrame:
        """Earnings of the queries of each group, and of those in none: `core.shares.EARNED` by group."""
        if (pages := self.measures.earning_pages) is None or not self.inputs.is_paired:
            return nothing_earned()
        rows, of = self._rows[0], self._numbered(members)[["query", "group"]].drop_duplicates()
        inside = rows[["page", "query", "clicks"]].merge(of, on="query", how="left")
        inside = inside[inside["page"] >= 0]
        return earned_by(inside[["page", "clicks"]], inside["group"].fillna(REST), pages)

    def changes(self, members: pd.DataFrame, comparison: Comparison | None) -> pd.DataFrame:
        """The rows of changes of the groups, and of the queries in none."""
        if comparison is None:
            return nothing(CHANGES)
        texts = self._rows[1]
        rest = pd.DataFrame({"group": REST, "query": texts[~texts.isin(members["query"])]})
        return comparison.of_queries(pd.concat([members, rest], ignore_index=True))

    def queries(self, members: pd.DataFrame) -> pd.DataFrame:
        """The queries of each group and those that deviate from it: `core.query_groups.GROUP_QUERIES`."""
        result = queries_of_groups(self._rows[0], self._numbered(members))
        return result.assign(query=self._rows[1].to_numpy()[result["query"].to_numpy(dtype=int)]).astype({"query": "str"})

    def pages(self, members: pd.DataFrame) -> pd.DataFrame:
        """The pages of the queries of one group: page, queries, clicks, impressions, position, pull; by impressions."""
        rows = self._rows[0]
        inside = rows[rows["query"].isin(self._numbered(members)["query"]) & (rows["impressions"] > 0) & (rows["page"] >= 0)]
        sums = inside.groupby("page")[["clicks", "impressions", "expected_clicks", "position_sum", "placed"]].sum()
        sums = sums.assign(
            queries=inside.groupby("page")["query"].nunique(), owned=inside[inside["role"] == "owner"].groupby("page").size()
        )
        table = sums.assign(
            position=sums["position_sum"] / sums["placed"].where(sums["placed"] > 0),
            pull=sums["clicks"] / sums["expected_clicks"].where(sums["expected_clicks"] >= THIN_CLICKS),
            address=self.inputs.pages["page"].reindex(sums.index),
        )
        table = table.reset_index(drop=True).rename(columns={"address": "page"})
        names = ["page", "queries", "owned", "clicks", "impressions", "position", "pull"]
        return table.fillna({"owned": 0})[names].sort_values(["impressions", "page"], ascending=[False, True], ignore_index=True)

    def like(self, words: Sequence[str], comparison: Comparison | None) -> dict[str, Any]:
        """An ad-hoc group: rates (two rows: the group and the rest of the site), change (a row of changes), queries, pages."""
        name = ", ".join(words)
        members = self._members_of(name, words)
        changes = self.changes(members, comparison)
        return {
            "rates": self.rates(members, [name], changes),
            "change": changes[changes["key"] == name].reset_index(drop=True),
            "queries": self.queries(members).drop(columns="group"),
            "pages": self.pages(members),
        }
