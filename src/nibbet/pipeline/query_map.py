"""The query map: which page answers which query, and the topics of queries."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from scipy.sparse import csr_matrix

from nibbet.core.join.address import hosts_of
from nibbet.core.junk import junk_of, suspects
from nibbet.core.pull import shrunk_pull
from nibbet.core.querymap import add_answer, add_roles, page_words, query_totals, roles_in_topics
from nibbet.core.topics import Grouping, group_pairs, grouped_queries, topics_of
from nibbet.core.words import Lexicon, numbered
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.pages import Pages


@dataclass(frozen=True, eq=False)
class QueryMap:
    """The query map and the topics."""

    context: Context
    inputs: Inputs
    expectation: Expectation
    pages: Pages

    @once
    def page_words(self) -> tuple[Lexicon, csr_matrix]:
        """The words of each page; rows are numbered like pages."""
        lexicon, pages = Lexicon(self.context.config.site.language), self.pages.table
        inventory = self.inputs.joined.inventory
        if inventory is not None and inventory["text"].notna().any():
            pages = pages.assign(text=inventory["text"].reindex(pages.index))
        return lexicon, page_words(pages, lexicon, self.inputs.anchors)

    @once
    def mapped(self) -> pd.DataFrame:
        """The pairs of the recent or reference window with answer, role and pull, by page, impressions and query."""
        pairs, pages = self.expectation.pairs, self.pages.table
        if (unnamed := pairs["query"] == "").any():
            pairs = pairs[~unnamed]
        self.context.say("mapping queries to pages")
        settings = self.context.config
        lexicon, on_page = self.page_words
        pairs = add_answer(pairs, pages, brand=settings.site.brand, language=settings.site.language, lexicon=lexicon, on_page=on_page)
        pairs = add_roles(pairs, pages["page"], settings.verdicts, self.inputs.target_queries, self.pages.dead)
        pairs["brand"] = pairs["brand"].eq(True)
        number, texts = numbered(pairs)
        suspect = suspects(pd.Series(texts).astype("str"), (settings.queries.junk, settings.queries.kept))
        pairs["junk"] = junk_of(pairs, number, suspect)
        pairs["role"] = pairs["role"].where(pairs["junk"].isna())
        pairs["pull"] = shrunk_pull(pairs["clicks"].to_numpy(float), pairs["expected_clicks"].to_numpy(float))
        return pairs

    @once
    def first_results(self) -> pd.DataFrame | None:
        """The first ten results of each query on other sites: query, url; None without result snapshots."""
        if (rows := self.inputs.snapshots) is None:
            return None
        rows = rows[(rows["kind"] == "result") & rows["url"].notna() & (rows["rank"].fillna(1) <= 10)]
        # results of its own pages are covered better by search rows
        return rows[~hosts_of(rows["url"]).isin(self.inputs.joined.home.every)]

    @once
    def grouping(self) -> Grouping:
        """The queries in topics."""
        pairs, settings = self.mapped, self.context.config
        self.context.say("grouping queries into topics")
        return group_pairs(
            pairs,
            len(self.pages.table),
            self.inputs.monthly_searches,
            self.first_results,
            brand=settings.site.brand,
            aside=settings.topics.aside,
            junk=(settings.queries.junk, settings.queries.kept),
            most=settings.topics.most,
            language=settings.site.language,
            lexicon=self.page_words[0],
            translate=settings.topics.translate,
            lone=self.expectation.pageless_queries,
            on_page=self.page_words[1],
        )

    @once
    def queries(self) -> pd.DataFrame:
        """One row per query with its topic, or why it has none: `Grouping.queries`."""
        return self.context.kept("queries-in-topics", lambda: self.grouping.queries)

    @once
    def grouped(self) -> pd.DataFrame:
        """The queries that have a topic: see `core.topics.grouped_queries`."""
        return grouped_queries(self.queries)

    @once
    def pairs(self) -> pd.DataFrame:
        """The query map: one row per (page, query) of the recent or reference window, with topics, by page and impressions."""
        pairs = self.mapped.assign(topic=topics_of(self.mapped, self.queries))
        return pairs.assign(role=roles_in_topics(pairs, self.context.config.verdicts, self.inputs.target_queries, self.pages.dead))

    @once
    def query_topics(self) -> pd.Series:
        """The topic of every query that has one, by its text."""
        return self.grouped.set_index("query")["topic"]

    @property
    def junk_queries(self) -> pd.Series:
        """The queries that are not searches."""
        return self.mapped.loc[self.mapped["junk"].notna(), "query"].astype("str").drop_duplicates()

    @property
    def pageless_in_topics(self) -> pd.DataFrame:
        """Totals of queries as rows of the query map without a page, a role or an answer."""
        rows = self.expectation.pageless_queries
        topic = self.query_topics
        unknown = {"page": np.nan, "role": None, "answer": np.nan, "days": np.nan}
        pull = shrunk_pull(rows["clicks"].to_numpy(float), rows["expected_clicks"].to_numpy(float))
        return rows.assign(topic=rows["query"].map(topic), pull=pull, share_clicks=np.nan, share_impressions=np.nan, **unknown)

    def query_totals(self) -> pd.DataFrame:
        """One row per query of the recent window: pages, clicks, impressions, position, brand."""
        if len(lone := self.expectation.pageless_queries):
            return lone.assign(pages=0)[["query", "pages", "clicks", "impressions", "brand", "position"]]
        return query_totals(self.pairs[self.pairs["impressions"] > 0])

    @once
    def placed_queries(self) -> pd.DataFrame:
        """The queries in topics with the position of the site."""
        number, texts = numbered(self.mapped)
        sums, placed = (np.bincount(number, self.mapped[name].to_numpy(float), len(texts)) for name in ("position_sum", "placed"))
        place = np.append(np.divide(sums, placed, out=np.full(len(texts), np.nan), where=placed > 0), np.nan)
        grouped = self.grouped
        lone = grouped["query"].map(self.expectation.pageless_queries.set_index("query")["position"])
        return grouped.assign(position=pd.Series(place[pd.Index(texts).get_indexer(grouped["query"])], index=grouped.index).fillna(lone))

    def topics_aside(self) -> pd.DataFrame:
        """Queries that belong to no topic, by reason: reason, queries, impressions."""
        rows = self.queries.dropna(subset=["aside"])
        table = rows.groupby("aside", observed=True).agg(queries=("query", "size"), impressions=("impressions", "sum"))
        return table.rename_axis("reason").reset_index().astype({"reason": "str"}).sort_values("reason", ignore_index=True)
