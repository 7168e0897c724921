"""Popular content of the site, what it has in common, and related ideas."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from scipy import sparse

from nibbet.core.kinship import unit_rows
from nibbet.core.popular import COMMON, LEANING, POPULAR, common_traits, is_popular, leaning_ideas, most_popular, page_facts, popularity
from nibbet.core.titles import page_traits
from nibbet.core.words import rarity
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.linking import Linking
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums
from nibbet.pipeline.topics import Topics


@dataclass(frozen=True, eq=False)
class Popular:
    """What visitors like on this site."""

    context: Context
    inputs: Inputs
    sums: Sums
    pages: Pages
    query_map: QueryMap
    measures: Measures
    topics: Topics
    linking: Linking

    @once
    def _pages(self) -> pd.DataFrame:
        """The living pages, with their earnings."""
        pages, value = self.measures.ledger, self.context.config.value.conversion
        pages = pages[~pages["gone"]]
        money = pages["revenue"].fillna(0.0) + (0.0 if value is None else pages["conversions"].fillna(0.0).astype(float) * value)
        return pages.assign(seconds=pages["engagement_seconds"], money=money)

    @once
    def _values(self) -> pd.DataFrame:
        return popularity(self._pages)

    @property
    def _popular(self) -> pd.DataFrame:
        return is_popular(self._values, self._pages["section"])

    def table(self) -> pd.DataFrame:
        """The first pages of the site, its sections, kinds and groups by each measure: `core.popular.POPULAR`."""
        if self._pages.empty:
            return pd.DataFrame(columns=POPULAR)
        kinds = pd.DataFrame({"level": "kind", "key": self.inputs.page_kinds, "page": self.inputs.pages.index}).dropna(subset=["key"])
        members = pd.concat([self.pages.members, kinds], ignore_index=True)
        table = most_popular(self._values, members[members["page"].isin(self._pages.index)], self._pages["sessions"])
        return table.assign(page=table["page"].map(self.inputs.pages["page"]))

    def common(self) -> pd.DataFrame:
        """What they have in common: `core.popular.COMMON`."""
        pages = self._pages
        if pages.empty:
            return pd.DataFrame(columns=COMMON)
        brand, as_of = self.context.config.site.brand, self.sums.windows.as_of
        titles = page_traits(pages, brand, as_of.year).drop(columns=[] if brand else ["brand first", "brand absent"])
        titled = titles.where(pages["title"].notna())
        traits = pd.concat([page_facts(pages, pd.Timestamp(as_of)), titled.drop(columns="title missing")], axis=1)
        return common_traits(self._popular, traits, pages["section"])

    def ideas(self) -> pd.DataFrame:
        """Topics to be written that are related to popular pages: `core.popular.LEANING`."""
        topics = self.topics.table()
        wanted = topics[topics["served"].ne("covered") & topics["proposal"].ne("none")].reset_index(drop=True)
        if wanted.empty or not self.inputs.is_paired:
            return pd.DataFrame(columns=LEANING)
        about, lexicon = self.linking.subjects, self.query_map.page_words[0]
        queries = self.query_map.grouped[["query", "topic", "impressions", "demand"]]
        row = pd.Index(wanted["topic"]).get_indexer(pd.Index(queries["topic"]))
        queries, row = queries[row >= 0].reset_index(drop=True), row[row >= 0]
        volume = np.log1p(np.fmax(queries["impressions"].to_numpy(float), queries["demand"].to_numpy(float)))
        words, about = lexicon.same_width(lexicon.matrix(queries["query"].astype("str")), about)
        in_topic = sparse.csr_matrix((volume, (row, np.arange(len(row)))), shape=(len(wanted), len(row)))
        telling = unit_rows(sparse.csr_matrix(sparse.csr_matrix(in_topic @ words).multiply(rarity(sparse.csr_matrix(about > 0))[None, :])))
        living = self._pages.index.to_numpy()
        result = leaning_ideas(wanted, telling, sparse.csr_matrix(about[living]), self._popular, self.inputs.pages["path"], lexicon)
        return result.assign(page=result["page"].map(self.inputs.pages["page"]))
