"""Pages that serve the same search, and the gain of merging them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core import groups as merging
from nibbet.core import reduce as reductions
from nibbet.core.findings import stays
from nibbet.core.kinship import intents_of
from nibbet.core.ledger import named_above
from nibbet.core.likeness import (
    answers_of_each,
    both_answer,
    chosen_beside,
    leads,
    one_search,
    own_question,
    shared_queries,
    title_likeness,
)
from nibbet.core.tables import rows_at
from nibbet.core.topics import listed
from nibbet.core.twins import of_two_regions, same_heading
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums

#: weight of an expected click relative to an actual one in the choice of searchers: enough for pages without clicks
PRIOR_CHOICE = 0.2


@dataclass(frozen=True, eq=False)
class Merges:
    """Merge groups, and pairs of pages that stay apart."""

    context: Context
    inputs: Inputs
    sums: Sums
    expectation: Expectation
    pages: Pages
    query_map: QueryMap
    measures: Measures

    @once
    def candidates(self) -> tuple[pd.DataFrame, pd.DataFrame]:
        """Pairs of pages that share queries, with turn_taking; and the days of their queries."""
        pages, pairs = self.pages.table, self.query_map.mapped
        self.context.say("looking for pages to merge")
        candidates = merging.candidate_pairs(pairs, self.context.config.verdicts, (~pages["gone"] & ~pages["blocked"]).to_numpy())
        enough = candidates["shared"] >= self.context.config.verdicts.shared_queries
        if not self.sums.windows.has_daily_pairs:  # without daily rows there is no turn-taking
            none = pd.DataFrame({"query": [], "date": [], "page": [], "impressions": [], "position": []})
            gaps = merging.place_gap(pairs, candidates)
            unknown = candidates.assign(turn_taking=np.nan, contested=np.nan, lead_spread=np.nan, place_gap=gaps)
            return self._with_likeness(unknown), none
        members = np.unique(candidates.loc[enough, ["page_a", "page_b"]].to_numpy()).astype("int64")
        wanted = self.context.engine.frame(pd.DataFrame({"page_id": members}))
        days = self.context.engine.fetch(reductions.daily_leaders(self.inputs.joined.search, self.sums.windows, wanted)).rename(
            columns={"page_id": "page"}
        )
        days["query"] = pd.factorize(days["query"])[0]  # only distinguished, not read
        known = leads(days, candidates[enough]).reindex(candidates.index)
        return self._with_likeness(candidates.join(known.fillna({"turn_taking": 0.0}))), days

    def _with_likeness(self, candidates: pd.DataFrame) -> pd.DataFrame:
        """The candidates with the agreement of titles and intents, and the probability that they serve one search."""
        titles = title_likeness(self.pages.table, candidates, self.query_map.page_words[0], self.context.config.site.brand)
        both = shared_queries(self.query_map.mapped, candidates)
        chosen, answers = chosen_beside(both, candidates), both_answer(both, candidates)
        result = candidates.assign(title_likeness=titles, intent=self._shared_intent(candidates), chosen_beside=chosen, both_answer=answers)
        enough = result["shared"] >= self.context.config.verdicts.shared_queries
        result = result.assign(
            one_search=one_search(result[enough]).reindex(result.index),
            above=merging.lies_above(self.pages.table, result, self._named_above),
            same_heading=same_heading(self.pages.table, result),
            of_two_regions=of_two_regions(self.pages.table, result),
        )
        t = self.context.config.verdicts
        near = result[result["one_search"] >= t.one_search / 2]
        question = own_question(self.query_map.mapped, near, self.pages.table, self.query_map.page_words[0], t.answers)
        return result.join(answers_of_each(self._chosen, near)).assign(own_question=question.reindex(result.index))

    @property
    def _named_above(self) -> pd.Series | None:
        """The address of the parent of each page by its breadcrumbs; None without an inventory that has them."""
        inventory = self.inputs.joined.inventory
        if inventory is None or not {"parent_page", "trail"} & set(inventory):
            return None
        return named_above(self.pages.table, inventory)

    @property
    def _chosen(self) -> pd.DataFrame:
        """The query map with chosen: actual clicks plus a part of expected ones."""
        pairs = self.query_map.mapped
        return pairs.assign(chosen=pairs["clicks"] + PRIOR_CHOICE * pairs["expected_clicks"])

    def _shared_intent(self, candidates: pd.DataFrame) -> pd.Series:
        """How far the pages of each pair get clicks for the same intents, as far as they answer, by the results of their queries; null where
        no results are known.
        """
        results = self.query_map.first_results
        if results is None or candidates.empty:
            return pd.Series(np.nan, index=candidates.index)
        queries = self.query_map.grouped["query"]
        intent = pd.Series(intents_of(listed(queries, results)), index=queries)
        pairs = self._chosen
        rows = pd.DataFrame({"page": pairs["page"], "topic": pairs["query"].map(intent), "chosen": pairs["chosen"] * pairs["answer"] ** 2})
        return merging.shared_intent(rows[rows["topic"].notna() & (rows["topic"] >= 0) & (rows["chosen"] > 0)], candidates)

    @once
    def _page_answers(self) -> pd.Series:
        """How far each page answers its queries, weighted by impressions."""
        rows = rows_at(self.query_map.pairs, ~self.query_map.pairs["brand"], ["page", "answer", "impressions"])
        sums = (rows["answer"] * rows["impressions"]).groupby(rows["page"]).sum()
        shown = rows.groupby("page")["impressions"].sum()
        return sums / shown.where(shown > 0)

    @once
    def outcome(self) -> tuple[pd.DataFrame, pd.DataFrame, pd.DataFrame]:
        """Merge groups, the gain of each, and pairs that share queries but stay apart."""
        pages, like, (candidates, _) = self.measures.ledger, self.context.config.verdicts, self.candidates
        facts = pages.assign(
            address=pages["page"], page=pages.index, stays=stays(pages, self.context.config.verdicts, self.context.config.windows.settled)
        )
        facts["answer"] = self._page_answers.reindex(pages.index)
        facts = facts.fillna({"conversions_long": 0, "backlinks": 0})
        result = merging.merge_groups(candidates, facts, like)
        gains = self._gains_of(result)
        worthless = gains.loc[gains["gain"] <= 0, "group"]
        result = result[~result["group"].isin(worthless)]
        return result, gains[~gains["group"].isin(worthless)], merging.kept_apart(candidates, result, facts, like)

    @property
    def groups(self) -> pd.DataFrame:
        """One row per page of a merge group, pages by number: see `core.groups.merge_groups`."""
        return self.outcome[0]

    @property
    def gains(self) -> pd.DataFrame:
        """One row per merge group with its gain, see `core.groups.merge_gain`."""
        return self.outcome[1]

    def _gains_of(self, groups: pd.DataFrame) -> pd.DataFrame:
        if groups.empty:
            return pd.DataFrame(columns=["group", "gain", "gain_low", "gain_high", "clicks_alone", "survivor_rest"])
        return merging.merge_gain(
            groups,
            self.query_map.pairs,
            self.measures.ledger["withheld_share"],
            merging.shown_once(self.candidates[1], groups),
            self.expectation.curve,
            self.expectation.sight,
            self.measures.standing,
            self.sums.windows.recent.days,
        )

    def table(self) -> pd.DataFrame:
        """Merge groups: group, page, survivor, shared_impressions, overlap, turn_taking, and the net gain of the group."""
        rows = self.groups.merge(self.gains, on="group", how="left")
        return rows.assign(page=rows["page"].map(self.pages.table["page"]), same_heading=rows["same_heading"].eq(1))

    def apart_table(self) -> pd.DataFrame:
        """Pairs of pages that draw the same queries but are not merged, with the reason."""
        rows, names = self.outcome[2], self.pages.table["page"]
        return rows.assign(page=rows["page"].map(names), other=rows["other"].map(names))
