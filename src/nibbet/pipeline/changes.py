"""Changes of clicks between the windows, split into demand, rank, pull and access."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core.compare import Terms, compared, own_season, page_noise, shared_noise
from nibbet.core.ledger import (
    parts_of_change,
)
from nibbet.core.replaced import replaced
from nibbet.core.split import row_parts, scaled_pairs, with_usual_rate
from nibbet.core.windows import year_earlier
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.history import History
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.successors import Successors
from nibbet.pipeline.sums import Sums

#: the position from which on further ones make no difference to the noise of a page
LAST_PLACE = 40.0


@dataclass(frozen=True, eq=False)
class Changes:
    """The changes of pages and pairs between one pair of windows."""

    context: Context
    inputs: Inputs
    sums: Sums
    expectation: Expectation
    history: History
    pages: Pages
    successors: Successors

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
            factor = own_season(last, factor, self.sums.scale_of(earlier))
        return pd.Series(factor, index=section.index)

    @once
    def terms(self) -> Terms:
        """The common terms of comparisons at every level."""
        return Terms(
            self.sums.scale,
            self.context.config.verdicts.real_change,
            shared_noise(self.inputs.days, self.sums.windows),
            self.expectation.sight,
            self.sums.windows.are_counted_alike,
            self.sums.places_tell,
        )

    @once
    def noise(self) -> pd.Series:
        """Per page, its own noise between the windows: see `core.compare.page_noise`."""
        recent, reference = (self.successors.with_old(self.sums.page_counts[name].to_numpy(np.float64)) for name in ("recent", "reference"))
        noise = page_noise(recent, reference, self.sums.scale, self.season.to_numpy(np.float64), self._traits)
        return pd.Series(noise, index=self.inputs.pages.index)

    @property
    def _traits(self) -> np.ndarray:
        """Pages x what makes their clicks noisy: how unsteady they were before the recent window, and their position before it, since the curve
        is steep further down. Not as they are now: a page that sank would pass for a noisy one.
        """
        sums, w = self.sums.pages.reindex(self.inputs.pages.index), self.sums.windows
        then, now = (sums[f"position_sum{s}"] / sums[f"placed{s}"].where(sums[f"placed{s}"] > 0) for s in ("_reference", "_recent"))
        known = self.history.unsteadiness(w.recent.start) if w.is_daily else pd.Series(dtype="float64")
        return np.column_stack([known.reindex(sums.index), np.log(then.fillna(now).clip(lower=1.0, upper=LAST_PLACE))])

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
        pairs, w = scaled_pairs(self.successors.pairs, self.sums.scale), self.sums.windows
        over = self.history.events["event_to"]
        ended = over.index[(over < pd.Timestamp(w.recent.start)) & (over >= pd.Timestamp(w.reference.start))]
        pages = {
            "section": pd.factorize(self.inputs.pages["section"])[0],
            "came": self.successors.came.to_numpy(),
            "lived": self.successors.arrivals["lived"].where(self.successors.taken_over <= 0, 1.0).to_numpy(),
            "event": self.inputs.pages.index.isin(ended),
        }
        number = pairs["page"].to_numpy()  # pages are numbered from 0
        pairs, placeless = with_usual_rate(pairs.assign(**{name: values[number] for name, values in pages.items()}))
        parts = row_parts(
            pairs, self.expectation.sight, alike=w.are_counted_alike and not self.sums.rows_selected, placed=self.sums.rows_placed
        )
        untold = parts["untold"] + parts["demand"].where(placeless, 0.0)  # without positions, a change of impressions may be due to rank
        return parts.assign(untold=untold, demand=parts["demand"].mask(placeless, 0.0))

    @once
    def page_parts(self) -> pd.DataFrame:
        """The change of each page and its parts (see `core.ledger.parts_of_change`), access, noise, taken_over, replaced and replaced_by."""
        names = ["change", "change_share", "change_low", "change_high", "real"]
        changes = self.page_changes.set_index("key")[names].rename(columns={"real": "change_real"})
        pages = self.pages.table.assign(access=self.successors.access, came=self.successors.came, taken_over=self.successors.taken_over)
        parts = parts_of_change(pages, self.successors.pairs, self.row_parts, self.expectation.both_windows)
        parts = parts.rename(columns={"access": "access_part"})
        lost = replaced(self.successors.pairs, self.row_parts["rank"], self.row_parts["access"]).reindex(parts.index)
        return parts.join(changes).assign(
            replaced=lost["replaced"].fillna(0.0),
            replaced_by=lost["replaced_by"].map(pages["path"]),
            access=pages["access"],
            taken_over=self.successors.taken_over,
            noise=np.hypot(self.noise, self.terms.noise),
        )
