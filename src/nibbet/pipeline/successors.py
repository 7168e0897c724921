"""Pages that appeared, disappeared or moved between the windows, and the pages that took the place of old addresses."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core.access import access_of, counted_with_successors, successors_of
from nibbet.once import once
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Successors:
    """Which addresses other pages have replaced, for one pair of windows."""

    sums: Sums
    expectation: Expectation
    pages: Pages

    @once
    def arrivals(self) -> pd.DataFrame:
        """access, otherwise and lived of each page: see `core.access.access_of`."""
        sums, w = self.sums.pages.reindex(self.pages.life_facts.index), self.sums.windows
        table = self.pages.life_facts.assign(
            clicks=sums["clicks_recent"].fillna(0),
            base=sums["clicks_reference"].fillna(0) * self.sums.scale,
            clicks_last28=sums["clicks_last28"].fillna(0),
            impressions=sums["impressions_recent"].fillna(0),
            impressions_reference=sums["impressions_reference"].fillna(0),
            first_seen=pd.to_datetime(sums["first_seen"]),
            reference_known=w.has_reference,
        )
        return access_of(table, w)

    @once
    def access(self) -> pd.Series:
        """For each page, how it appeared or disappeared between the windows: new, gone, moved, redirected, blocked or empty."""
        access, otherwise = self.arrivals["access"], self.arrivals["otherwise"]
        has_moved = (self.taken_over > 0).to_numpy() | (self.of_page != np.arange(len(access)))
        known = access.where(access.ne("moved") | has_moved, otherwise)
        lately = np.isin(np.arange(len(known)), self.followed[self.followed != np.arange(len(known))])
        return known.mask(known.eq("new") & lately, "moved")

    @once
    def of_page(self) -> np.ndarray:
        """The number of the page that took the place of each page, its own where none did: see `core.access.successors_of`."""
        pages = self.pages.life_facts.assign(access=self.arrivals["access"], dead=self.pages.dead)
        return successors_of(pages, self.expectation.both_windows)

    @once
    def pairs(self) -> pd.DataFrame:
        """The rows that cover both windows, those of an old address counted with the page that took its place."""
        return counted_with_successors(self.expectation.both_windows, self.of_page)

    @once
    def taken_over(self) -> pd.Series:
        """Per page, the clicks of the reference window (scaled) that its old addresses had and lost."""
        counts = self.sums.page_counts
        lost = (counts["reference"] * self.sums.scale - counts["recent"]).to_numpy(np.float64)
        moved = np.flatnonzero(self.of_page != np.arange(len(lost)))
        return pd.Series(np.bincount(self.of_page[moved], lost[moved], len(lost)), index=counts["key"])

    @property
    def came(self) -> pd.Series:
        """Whether each page appeared or disappeared; not those that took the place of another: what is left of their change is split."""
        return self.access.ne("") & (self.taken_over <= 0)

    @once
    def followed(self) -> np.ndarray:
        """As `of_page`, for every address that redirects now, even if it had clicks until lately."""
        facts = self.pages.life_facts
        leads = facts["gone"] & facts["redirects_to"].notna()
        return successors_of(
            facts.assign(access=leads.map({True: "moved", False: ""}), dead=self.pages.dead), self.expectation.both_windows
        )

    @once
    def first_seen(self) -> pd.Series:
        """Per page that search shows, the first day on which it showed the page or an old address of it."""
        seen = pd.to_datetime(self.sums.pages["first_seen"])
        earliest = seen.groupby(self.followed[seen.index]).min()
        return earliest.reindex(seen.index).fillna(seen)

    def with_old(self, counts: np.ndarray) -> np.ndarray:
        """Counts of all pages, in which pages also have those of the addresses whose place they took."""
        moved = np.flatnonzero(self.of_page != np.arange(len(counts)))
        together = counts.copy()
        np.add.at(together, self.of_page[moved], counts[moved])
        return together
