"""Links of the site that lead to faults, and links that are missing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from scipy import sparse

from nibbet.core import link_rows
from nibbet.core.kinship import unit_rows
from nibbet.core.linking import BROKEN, SUGGESTED, broken_links, link_flows, link_suggestions
from nibbet.core.querymap import SURE
from nibbet.core.redirects import end_of
from nibbet.core.verdict import LEAVING
from nibbet.core.words import rarity
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.decisions import Decisions
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.opportunities import Opportunities
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.targets import Targets


@dataclass(frozen=True, eq=False)
class Linking:
    """Faults and gaps of internal links."""

    context: Context
    inputs: Inputs
    query_map: QueryMap
    measures: Measures
    opportunities: Opportunities
    targets: Targets
    decisions: Decisions

    def broken(self) -> pd.DataFrame:
        """Every link that leads to a fault or a detour: BROKEN; no rows without links."""
        links, crawl = self.inputs.joined.table("links"), self.inputs.joined.table("crawl")
        if links is None:
            return pd.DataFrame(columns=BROKEN)
        pages, home = self.measures.ledger, self.inputs.joined.home
        failing = pages.loc[pages["gone"] & (pages["status"] >= 400), "status"].astype("int64")
        fails = self.context.engine.frame(failing.rename("fails").rename_axis("page_id").reset_index())
        rows = self.context.fetch("faulty-links", lambda: link_rows.faulty(links, crawl, fails, home.host))
        rows = rows.sort_values(["source_id", "target", "anchor"], ignore_index=True)
        covering = self.targets.covering.reindex(pages.index)
        covering = covering.where(covering.notna(), self.targets.section_hubs.reindex(pages.index))
        return broken_links(rows, pages, end_of(pages)[0], covering)

    @once
    def _pairs(self) -> tuple[np.ndarray[tuple[int], np.dtype[np.int64]], np.ndarray[tuple[int], np.dtype[np.int64]]]:
        """Source and target of every internal link, once, by page numbers."""
        links = self.inputs.joined.table("links")
        if links is None:
            return np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64)
        rows = self.context.fetch("link-pairs", lambda: link_rows.pairs(links)).sort_values(["source_id", "target_id"])
        return rows["source_id"].to_numpy(np.int64), rows["target_id"].to_numpy(np.int64)

    def flows(self) -> pd.DataFrame:
        """Where the links of each section lead: FLOWS; no rows without a source of links."""
        return link_flows(self.measures.ledger, self._pairs)

    def suggestions(self) -> pd.DataFrame:
        """Missing links: SUGGESTED; no rows without a source of links."""
        inlinks = self.inputs.inlinks
        if inlinks is None:
            return pd.DataFrame(columns=SUGGESTED)
        self.context.say("looking for missing links")
        pages = self.measures.ledger
        leaves = self.decisions.outcome[0]["verdict"].isin(LEAVING).reindex(pages.index).eq(True)
        anchor = (
            self._answered.assign(certain=self._answered["answer"] > SURE)
            .sort_values(["page", "certain", "impressions"], ascending=[True, False, False], kind="stable")
            .drop_duplicates("page")
            .set_index("page")["query"]
        )
        openings = self.opportunities.table()
        gain = openings[openings["kind"] == "climb"].groupby("page")["gain"].sum()
        number = pd.Series(pages.index, index=pages["page"])
        gain.index = number.reindex(gain.index)
        result = link_suggestions(
            pages.assign(leaves=leaves),
            inlinks.reindex(pages.index).fillna(0),
            self.subjects,
            self._pairs,
            anchor.astype("str"),
            gain,
        )
        address = pages["page"]
        return result.assign(**{end: result[end].map(address) for end in ("to", "from")})

    @property
    def _answered(self) -> pd.DataFrame:
        """The pairs of pages and queries that they answer."""
        pairs = self.query_map.pairs
        return pairs[~pairs["brand"] & pairs["role"].isin(["owner", "rival"]) & (pairs["impressions"] > 0)]

    @once
    def subjects(self) -> sparse.csr_matrix:
        """The subject of each page: the words of the queries that it answers and of its title, weighted by rarity; rows of length 1."""
        answered, pages = self._answered, len(self.measures.ledger)
        lexicon, texts = self.query_map.page_words
        number, _, query_words = lexicon.of_queries(answered)
        draws = sparse.csr_matrix(
            (np.log1p(answered["impressions"].to_numpy(float)), (answered["page"].to_numpy(), number)), shape=(pages, query_words.shape[0])
        )
        titles = lexicon.matrix(self.measures.ledger["title"].astype("str").fillna(""))
        drawn, texts, titles = lexicon.same_width(sparse.csr_matrix(unit_rows(draws) @ query_words), texts, titles)
        weight = rarity(texts)
        weight[np.asarray((texts > 0).sum(axis=0)).ravel() > pages / 2] = 0.0  # words on most pages are no subject
        words = unit_rows(sparse.csr_matrix(drawn.multiply(weight[None, :]))) + unit_rows(
            sparse.csr_matrix(titles.multiply(weight[None, :]))
        )
        return unit_rows(sparse.csr_matrix(words))
