"""Every page with the facts of its sources."""

from __future__ import annotations

from dataclasses import dataclass

import pandas as pd

from nibbet.core import reduce as reductions
from nibbet.core.ended import is_over
from nibbet.core.ledger import (
    ledger,
    with_agents,
    with_followed_links,
    with_others,
    with_sound_flags,
    with_ways,
)
from nibbet.core.members import pages_in_groups
from nibbet.core.sections import language_code
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Pages:
    """The ledger, except the columns that need the query map."""

    context: Context
    inputs: Inputs
    sums: Sums

    @once
    def table(self) -> pd.DataFrame:
        """The ledger, except the columns that need the query map."""
        settings, joined = self.context.config, self.inputs.joined
        search, visits = self.sums.pages, self.sums.visits
        self.context.say("measuring pages")
        table = ledger(
            joined.pages,
            search,
            visits,
            None if joined.inventory is None else self._sound_inventory(joined.inventory, search),
            joined.small_source("editorial"),
            joined.small_source("backlinks"),
            windows=self.sums.windows,
            scale=self.sums.scale,
            protected=settings.protect.pages,
            notices=settings.protect.notices,
            purposes=settings.purpose.model_dump(),
        )
        table = with_others(
            table,
            home=joined.home,
            sitemap=joined.small_source("sitemap"),
            robots=self.inputs.robots,
            hits=self.sums.hits,
            links=self.inputs.inlinks,
            outlinks=self.inputs.outlinks,
            agents=settings.site.search_agents,
            as_of=pd.Timestamp(self.sums.windows.as_of),
            first=pd.Timestamp(self.sums.windows.first),
        )
        return with_ways(table, self.inputs.rare_links, settings.verdicts.prune_clicks)

    def _sound_inventory(self, inventory: pd.DataFrame, search: pd.DataFrame) -> pd.DataFrame:
        """The crawl without what contradicts itself or search."""
        sound = with_followed_links(with_sound_flags(inventory, search)[0])[0]
        return with_agents(sound, self.context.config.site.search_agents)

    @property
    def dead(self) -> pd.Series:
        """For each page, whether it fails or is blocked from the index."""
        return (self.table["status"] >= 400).fillna(False).astype(bool) | self.table["blocked"]

    @once
    def last_used(self) -> pd.Series:
        """For each page that is gone, the last day on which it was used, by page number; null where its days are unknown."""
        joined, table = self.inputs.joined, self.table
        gone = table.index[table["gone"]]
        if not len(gone):
            return pd.Series(pd.NaT, index=table.index)
        wanted = self.context.engine.frame(pd.DataFrame({"page_id": gone.to_numpy("int64")}))
        days = self.context.engine.fetch(reductions.last_days(joined.search, joined.landings, joined.table("hits"), wanted))
        return pd.to_datetime(days.set_index("page_id")["last"]).reindex(table.index)

    @once
    def over(self) -> pd.Series:
        """Whether each page is gone as pages of its section come and go: see `core.ended.is_over`."""
        return is_over(self.table, self.last_used)

    @once
    def languages(self) -> pd.Series:
        """The ISO code of the language of each page in the crawl; null where unknown."""
        return language_code(self.table["language"])

    @once
    def members(self) -> pd.DataFrame:
        """level, key, page: the pages of each section and named group."""
        pages = self.inputs.pages
        sections = pd.DataFrame({"level": "section", "key": pages["section"], "page": pages.index})
        groups = pages_in_groups(pages["path"], self.context.config.groups.pages).rename(columns={"group": "key"}).assign(level="group")
        return pd.concat([sections, groups], ignore_index=True)

    @property
    def peer_groups(self) -> pd.Series:
        """The section of each page, with its kind where the editorial list has one."""
        section, kind = self.inputs.pages["section"], self.inputs.page_kinds
        return section.where(kind.isna(), section + " " + kind.astype("str"))

    @once
    def life_facts(self) -> pd.DataFrame:
        """Facts about the appearance and disappearance of each page, for any windows: see `core.access.access_of`."""
        names = "page born impressions_long gone blocked robots_blocked leads_to status".split()
        return self.table[names].rename(columns={"leads_to": "redirects_to"}).assign(index_state=self.inputs.index_exclusions)
