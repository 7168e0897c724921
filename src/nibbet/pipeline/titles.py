"""Titles and descriptions: what their traits do on this site, and what to change first on each page."""

from __future__ import annotations

from dataclasses import dataclass

import pandas as pd

from nibbet.core.tables import THIN_CLICKS
from nibbet.core.titles import EFFECTS, TITLES, TRAITS, page_traits, query_traits, title_advice, trait_effects
from nibbet.core.windows import MONTH_DAYS
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Titles:
    """What stands in titles and descriptions against how often pages are chosen."""

    context: Context
    sums: Sums
    pages: Pages
    query_map: QueryMap

    @once
    def _parts(self) -> tuple[pd.DataFrame, pd.DataFrame, pd.DataFrame]:
        """(pages, rows, traits): the living pages whose titles are known, their pairs without the brand, and the traits of each."""
        pages = self.pages.table
        pages = pages[~pages["gone"] & ~pages["blocked"] & pages["in_crawl"]] if pages["title"].notna().any() else pages.head(0)
        pairs = self.query_map.pairs
        told = ~pairs["brand"] & (pairs["impressions"] > 0) & (pairs["expected_clicks"] > 0)
        # what a page draws astray, its title need not name; but where all is astray, the title may be why
        astray = pairs["role"] == "stray"
        told &= ~astray | ~(told & ~astray).groupby(pairs["page"]).transform("any")
        names = ["page", "query", "clicks", "impressions", "expected_clicks", "position"]
        rows = pairs.loc[told & pairs["page"].isin(pages.index), names].reset_index(drop=True)
        if rows.empty:
            return pages, rows, pd.DataFrame(index=rows.index)
        self.context.say("comparing titles")
        year = self.sums.windows.as_of.year
        of_pages = page_traits(pages, self.context.config.site.brand, year)
        if not pages["description"].notna().any():  # no export holds descriptions
            of_pages = of_pages.drop(columns=[name for name in of_pages if str(name).startswith("description")])
        if not self.context.config.site.brand:
            of_pages = of_pages.drop(columns=[name for name in of_pages if str(name).startswith("brand")])
        own = of_pages.loc[rows["page"]].set_axis(rows.index, axis=0)
        traits = pd.concat([own, query_traits(rows, pages, self.query_map.page_words[0])], axis=1)
        return pages, rows, traits[[name for name in TRAITS if name in traits]]

    @once
    def _effects(self) -> pd.DataFrame:
        pages, rows, traits = self._parts
        return trait_effects(rows, traits, pages["section"].reindex(rows["page"]).set_axis(rows.index))

    def effects(self) -> pd.DataFrame:
        """One row per trait: EFFECTS, the strongest proven first."""
        pages, rows, traits = self._parts
        if rows.empty:
            return pd.DataFrame(columns=EFFECTS)
        table = self._effects.reset_index()
        sums = rows.groupby("page")[["clicks", "expected_clicks"]].sum()
        pull = (sums["clicks"] / sums["expected_clicks"]).where(sums["expected_clicks"] >= THIN_CLICKS)
        has = traits.groupby(rows["page"]).any()
        address = pages["page"]
        for name, worst in (("best_page", False), ("worst_page", True)):
            ranked = pull.sort_values(ascending=worst, kind="stable").dropna().index
            with_trait = has.reindex(ranked)[table["trait"].tolist()]
            first = with_trait.idxmax().where(with_trait.any())
            table[name] = first.map(address).to_numpy()
        size = table["effect"].map(lambda value: -abs(value - 1))
        order = table.assign(size=size).sort_values(["real", "size", "trait"], ascending=[False, True, True], kind="stable")
        return order.drop(columns="size").reset_index(drop=True)[EFFECTS]

    def advice(self) -> pd.DataFrame:
        """One row per page with a fault in title or description: TITLES."""
        pages, rows, traits = self._parts
        if rows.empty:
            return pd.DataFrame(columns=TITLES)
        return title_advice(pages, rows, traits, self._effects, MONTH_DAYS / self.sums.windows.recent.days)
