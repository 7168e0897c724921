"""Changes of clicks between the windows, split into demand, rank, pull and access."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core.access import access_of, counted_with_heirs, heirs_of
from nibbet.core.compare import Terms, compared, own_season, page_noise, shared_noise
from nibbet.core.ledger import (
    parts_of_change,
)
from nibbet.core.split import row_parts, scaled_pairs, with_usual_rate
from nibbet.core.windows import Window, weekday_scale, year_earlier
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.history import History
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Changes:
    """The changes of pages and pairs between one pair of windows."""

    context: Context
    inputs: Inputs
    sums: Sums
    expectation: Expectation
    history: History
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
        has_moved = (self.taken_over > 0).to_numpy() | (self.heirs != np.arange(len(access)))
        return access.where(access.ne("moved") | has_moved, otherwise)

    @once
    def heirs(self) -> np.ndarray:
        """The number of the page that took the place of each page, its own where none did: see `core.access.heirs_of`."""
        pages = self.pages.life_facts.assign(access=self.arrivals["access"], dead=self.pages.dead)
        return heirs_of(pages, self.expectation.both_windows)

    @once
    def pairs(self) -> pd.DataFrame:
        """The rows that cover both windows, those of an old address counted with the page that took its place."""
        return counted_with_heirs(self.expectation.both_windows, self.heirs)

    @once
    def taken_over(self) -> pd.Series:
        """Per page, the clicks of the reference window (scaled) that its old addresses had and lost."""
        counts = self.sums.page_counts
        lost = (counts["reference"] * self.sums.scale - counts["recent"]).to_numpy(np.float64)
        moved = np.flatnonzero(self.heirs != np.arange(len(lost)))
        return pd.Series(np.bincount(self.heirs[moved], lost[moved], len(lost)), index=counts["key"])

    @property
    def came(self) -> pd.Series:
        """Whether each page appeared or disappeared; not those that took the place of another: what is left of their change is split."""
        return self.access.ne("") & (self.taken_over <= 0)

    @once
    def season(self) -> pd.Series:
        """Per page, the factor between the windows due to the season alone: that of its section or its own, and its change a year earlier
        where the data go back that far; 1 against a year earlier.
        """
        w, section = self.sums.windows, self.inputs.pages["section"]
        if w.reference_kind == "year":
            return pd.Series(1.0, index=section.index)
        waves = self.history.page_waves[0].ratio(w.recent, w.reference).reindex(section.index)
        factor = np.asarray(waves.fillna(section.map(self.history.annual.ratio(w.recent, w.reference))).fillna(1.0), dtype=np.float64)
        if (earlier := year_earlier(w)) is not None:
            sums = Sums(self.context.at(earlier), self.inputs, earlier).pages.reindex(section.index)
            last = pd.DataFrame({"recent": sums["clicks_recent"], "reference": sums["clicks_reference"]}).fillna(0)
            factor = own_season(last, factor, weekday_scale(self.inputs.days, earlier.recent, earlier.reference))
        return pd.Series(factor, index=section.index)

    @once
    def terms(self) -> Terms:
        """The common terms of comparisons at every level."""
        return Terms(
            self.sums.scale,
            self.context.config.verdicts.real_change,
            shared_noise(self.inputs.days, self.sums.windows),
            self.expectation.sight,
        )

    @property
    def _weeks_of_windows(self) -> tuple[np.ndarray, np.ndarray]:
        """Pages x whole weeks inside the recent and the reference window: clicks."""
        w, as_of = self.sums.windows, self.sums.windows.as_of
        every = np.arange(len(self.inputs.pages))

        def inside(window: Window) -> np.ndarray:
            # weeks are counted back from the last complete day
            return self.history.week_table(every, -((window.end - as_of).days // 7), ((as_of - window.start).days + 1) // 7)

        return inside(w.recent), inside(w.reference)

    @once
    def noise(self) -> pd.Series:
        """Per page, its own noise between the windows: see `core.compare.page_noise`."""
        recent, reference = (self.with_old(self.sums.page_counts[name].to_numpy(np.float64)) for name in ("recent", "reference"))
        weeks = tuple(self.with_old(weeks) for weeks in self._weeks_of_windows) if self.sums.windows.is_daily else ()
        noise = page_noise(recent, reference, self.sums.scale, self.season.to_numpy(np.float64), weeks)
        return pd.Series(noise, index=self.inputs.pages.index)

    def with_old(self, counts: np.ndarray) -> np.ndarray:
        """Counts of all pages, in which pages also have those of the addresses whose place they took."""
        moved = np.flatnonzero(self.heirs != np.arange(len(counts)))
        together = counts.copy()
        np.add.at(together, self.heirs[moved], counts[moved])
        return together

    @once
    def page_changes(self) -> pd.DataFrame:
        """The change of every page, keyed by its number in order: the columns CHANGES."""
        rows, w = self.sums.page_counts, self.sums.windows
        known = np.full(len(rows), w.has_reference)
        noise, season = self.noise.to_numpy(float), self.season.to_numpy(float)
        return compared(rows, "page", self.terms, noise=noise, season=season, known=known)

    @once
    def row_parts(self) -> pd.DataFrame:
        """The parts of the change of every row of `pairs`: see `core.split.row_parts`."""
        pairs, w = scaled_pairs(self.pairs, self.sums.scale), self.sums.windows
        over = self.history.events["event_to"]
        ended = over.index[(over < pd.Timestamp(w.recent.start)) & (over >= pd.Timestamp(w.reference.start))]
        pages = {
            "section": pd.factorize(self.inputs.pages["section"])[0],
            "came": self.came.to_numpy(),
            "lived": self.arrivals["lived"].where(self.taken_over <= 0, 1.0).to_numpy(),
            "event": self.inputs.pages.index.isin(ended),
        }
        number = pairs["page"].to_numpy()  # pages are numbered from 0
        pairs, placeless = with_usual_rate(pairs.assign(**{name: values[number] for name, values in pages.items()}))
        parts = row_parts(pairs, self.expectation.sight)
        untold = parts["untold"] + parts["demand"].where(placeless, 0.0)  # without positions, a change of impressions may be due to rank
        return parts.assign(untold=untold, demand=parts["demand"].mask(placeless, 0.0))

    @once
    def page_parts(self) -> pd.DataFrame:
        """The change of each page and its parts (see `core.ledger.parts_of_change`), access, noise and taken_over."""
        names = ["change", "change_share", "change_low", "change_high", "real"]
        changes = self.page_changes.set_index("key")[names].rename(columns={"real": "change_real"})
        pages = self.pages.table.assign(access=self.access, came=self.came, taken_over=self.taken_over)
        parts = parts_of_change(pages, self.pairs, self.row_parts, self.expectation.both_windows)
        parts = parts.rename(columns={"access": "access_part"})
        return parts.join(changes).assign(access=pages["access"], taken_over=self.taken_over, noise=np.hypot(self.noise, self.terms.noise))
