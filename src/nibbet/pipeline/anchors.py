"""Anchor texts of links."""

from __future__ import annotations

from dataclasses import dataclass

import pandas as pd

from nibbet.core import link_rows
from nibbet.core.anchors import ANCHORS, anchor_mix
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.query_map import QueryMap


@dataclass(frozen=True, eq=False)
class Anchors:
    """Anchor texts, from the site itself and from others."""

    context: Context
    inputs: Inputs
    pages: Pages
    query_map: QueryMap

    @once
    def by_number(self) -> pd.DataFrame:
        """`core.anchors.ANCHORS` with pages by number; no rows without links."""
        parts = []
        if (links := self.inputs.joined.table("links")) is not None:
            parts.append(self.context.fetch("anchor-counts", lambda: link_rows.anchor_counts(links)).assign(side="inside"))
        if (outside := self.inputs.joined.small_source("backlinks")) is not None:
            rows = outside[outside["aside"].isna() & outside["page_id"].notna()].drop_duplicates(["from_url", "page_id", "anchor"])
            counted = rows.groupby(["page_id", "anchor"], dropna=False).size().rename("links").reset_index()
            parts.append(counted.rename(columns={"page_id": "page"}).assign(side="outside", menus=0))
        if not parts:
            return pd.DataFrame(columns=ANCHORS)
        pairs = self.query_map.pairs
        answers = self.context.config.verdicts.answers
        answered = pairs[~pairs["brand"] & (pairs["role"] == "owner") & (pairs["impressions"] > 0) & (pairs["answer"] >= answers)]
        given = pd.concat(parts, ignore_index=True).astype({"page": "int64"})
        given = given.sort_values(["side", "page", "anchor"], ignore_index=True)
        names = self.pages.table[["title", "h1"]]
        return anchor_mix(
            given, names, answered[["page", "query", "impressions"]], self.context.config.site.brand, self.query_map.page_words[0]
        )

    def table(self) -> pd.DataFrame:
        """`core.anchors.ANCHORS`."""
        return self.by_number.assign(page=self.by_number["page"].map(self.inputs.pages["page"]))
