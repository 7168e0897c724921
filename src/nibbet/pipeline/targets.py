"""Redirect targets for addresses that go."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core import reduce as reductions
from nibbet.core.findings import is_hub
from nibbet.core.likeness import title_likeness
from nibbet.core.querymap import main_pages, page_words
from nibbet.core.redirects import (
    ANSWERS,
    BESIDE,
    SAYS_TOO,
    Tongues,
    answering_page,
    covering_page,
    names_its_own,
    page_of_same_name,
    says_no_less,
    section_page,
    subject_of,
    words_of_address,
)
from nibbet.core.repairs import MATTERS
from nibbet.core.sentences import readable
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.measures import Measures
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Targets:
    """For pages that leave and addresses without a page, the page or section that replaces them."""

    context: Context
    inputs: Inputs
    sums: Sums
    query_map: QueryMap
    measures: Measures

    @once
    def covering(self) -> pd.Series:
        """For each poor or gone page the living page on the same question, by its words, else by its queries; null without one."""
        pages, t = self.measures.ledger, self.context.config.verdicts
        poor = (pages["clicks_long"] < t.prune_clicks) & ~pages["gone"]
        leaving = np.flatnonzero((poor | pages["gone"]).to_numpy())
        staying = np.flatnonzero((~poor & ~pages["gone"] & ~pages["blocked"] & ~is_hub(pages, t) & ~pages["in_list"]).to_numpy())
        result = covering_page(pages, leaving, staying, brand=self.context.config.site.brand, words=self.query_map.page_words)
        if not self.inputs.is_paired:
            return result
        answered = answering_page(self.query_map.mapped, leaving[result.isna().to_numpy()], staying, t.answers)
        answered = answered[(answered["weight"] >= t.min_gain) & (answered.groupby("page")["share"].transform("max") >= ANSWERS)]
        pairs = answered.groupby("page").head(BESIDE).dropna().astype({"other": "int64"})
        pairs = pairs.rename(columns={"page": "page_a", "other": "page_b"})
        pairs = pairs[Tongues(pages).agree(*(pages.index.get_indexer(pd.Index(pairs[name])) for name in ("page_a", "page_b")))]
        texts = pages.assign(title=subject_of(pages), h1="")
        pairs["likeness"] = title_likeness(texts, pairs, self.query_map.page_words[0], self.context.config.site.brand)
        pairs = pairs[names_its_own(texts["title"] + " " + texts["path"], pairs, self.query_map.page_words[0])]
        several = pairs.groupby("page_a")["page_b"].transform("size") > 1  # a single pair does not show which words are the subject
        best = pairs[(pairs["share"] >= ANSWERS) & (pairs["likeness"] >= SAYS_TOO) & several].drop_duplicates("page_a")
        result = result.where(result.notna(), best.set_index("page_a")["page_b"].reindex(result.index))
        return result.where(~self._asked_for_more(result))

    def _asked_for_more(self, target: pd.Series) -> pd.Series:
        """Whether most of the clicks of each leaving page belong to topics that its target does not own."""
        pairs = self.query_map.pairs
        known = (pairs["page"].isin(target.index[target.notna()]) & ~pairs["brand"] & pairs["topic"].notna()).to_numpy()
        rows = pairs.loc[known, ["page", "clicks", "clicks_reference"]]
        clicks = rows["clicks"] + rows["clicks_reference"].fillna(0)
        same = main_pages(pairs, self.query_map.pages.dead)[known] == rows["page"].map(target)
        had, covered = (part.groupby(rows["page"]).sum().reindex(target.index).fillna(0.0) for part in (clicks, clicks.where(same, 0.0)))
        return (had >= self.context.config.verdicts.min_gain) & (covered < had / 2)

    @once
    def section_hubs(self) -> pd.Series:
        """For each gone page the hub of its section; null without one."""
        pages = self.measures.ledger
        hubs = is_hub(pages, self.context.config.verdicts) & ~pages["gone"] & ~pages["blocked"]
        gone = np.flatnonzero(pages["gone"].to_numpy())
        return section_page(
            pages, gone, np.flatnonzero(hubs.to_numpy()), brand=self.context.config.site.brand, words=self.query_map.page_words
        )

    @once
    def missed(self) -> pd.DataFrame:
        """Addresses that are no page in any source and that people requested in vain, often enough to matter: page (address), hits, covered,
        target (null where no page covers it and it belongs to no section).
        """
        hits = self.inputs.joined.missed()
        if hits is None:
            return pd.DataFrame({"page": [], "hits": [], "covered": [], "target": []})
        asked_for, home = self.context.engine.fetch(reductions.missed_hits(hits, self.sums.windows)), self.inputs.joined.home
        path = asked_for["path"].str.replace(r"^https?://[^/]+|[?#].*$", "", regex=True)
        sums = asked_for.groupby(home.root + path)["hits"].sum()
        pages, t = self.measures.ledger, self.context.config.verdicts
        alive = ~pages["gone"] & ~pages["blocked"]
        # whatever the parameters of a hit, the path of a living page is no dead end
        served = pages.loc[alive, "page"].str.replace(r"[?#].*$", "", regex=True)
        rows = sums[(sums >= MATTERS) & ~sums.index.isin(served)].rename_axis("page").reset_index()
        known = pages[["title", "h1", "path", "clicks_long"]]
        path = rows["page"].str.removeprefix(home.root).map(readable)
        candidates = pd.concat([known, pd.DataFrame({"path": path, "h1": words_of_address(path), "clicks_long": 0})], ignore_index=True)
        leaving = np.arange(len(known), len(candidates))
        lexicon, hub, brand = self.query_map.page_words[0], is_hub(pages, t), self.context.config.site.brand
        words = (lexicon, page_words(candidates, lexicon))
        living = known["path"].reset_index(drop=True)[alive.to_numpy()]
        result = covering_page(candidates, leaving, np.flatnonzero((alive & ~hub).to_numpy()), brand=brand, words=words)
        same = page_of_same_name(candidates["path"].iloc[leaving], living)
        same = same[result.isna() & same.notna()].astype("int64")
        texts, addresses = lexicon.same_width(words[1], lexicon.matrix(living))
        same = same.loc[says_no_less(texts, addresses, same.index.to_numpy(), same.to_numpy())]
        result = result.where(result.notna(), same.reindex(result.index))
        section = section_page(candidates, leaving, np.flatnonzero((alive & hub).to_numpy()), brand=brand, words=words)
        target = result.where(result.notna(), section).map(pages["page"])
        return rows.assign(covered=result.notna().to_numpy(), target=target.to_numpy())
