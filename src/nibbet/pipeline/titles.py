"""Titles and descriptions: the effects of their traits on this site, and what to change first on each page."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from nibbet.core import reduce as reductions
from nibbet.core.pull import weighted_position
from nibbet.core.tables import THIN_CLICKS
from nibbet.core.title_changes import (
    CHANGES,
    LEAST_DAYS,
    SETTLING_DAYS,
    SPANS,
    TRIALS,
    Estimate,
    change_effects,
    dated,
    estimated,
    spans,
    trials,
    with_stand_ins,
)
from nibbet.core.titles import EFFECTS, TITLES, TRAITS, page_traits, query_traits, title_advice, trait_effects
from nibbet.core.windows import MONTH_DAYS, Window
from nibbet.once import once
from nibbet.pipeline.context import Context
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.pages import Pages
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Titles:
    """Traits of titles and descriptions, and their effect on CTR."""

    context: Context
    inputs: Inputs
    sums: Sums
    expectation: Expectation
    pages: Pages
    query_map: QueryMap

    @once
    def _parts(self) -> tuple[pd.DataFrame, pd.DataFrame, pd.DataFrame]:
        """(pages, rows, traits): the living pages whose titles are known, their pairs without the brand, and the traits of each."""
        pages = self.pages.table
        pages = pages[~pages["gone"] & ~pages["blocked"] & pages["in_crawl"]] if pages["title"].notna().any() else pages.head(0)
        pairs = self.query_map.pairs
        counted = ~pairs["brand"] & (pairs["impressions"] > 0) & (pairs["expected_clicks"] > 0)
        # a title need not match the strays of its page, unless all its queries are strays and the title may be the reason
        astray = pairs["role"] == "stray"
        counted &= ~astray | ~(counted & ~astray).groupby(pairs["page"]).transform("any")
        names = ["page", "query", "clicks", "impressions", "expected_clicks", "position"]
        rows = pairs.loc[counted & pairs["page"].isin(pages.index), names].reset_index(drop=True)
        if rows.empty:
            return pages, rows, pd.DataFrame(index=rows.index)
        self.context.say("comparing titles")
        return pages, rows, self._traits(pages, rows)

    def _traits(self, pages: pd.DataFrame, rows: pd.DataFrame) -> pd.DataFrame:
        """The traits of each row, from the title and description of its page."""
        of_pages = page_traits(pages, self.context.config.site.brand, self.sums.windows.as_of.year)
        if not pages["description"].notna().any():  # the export has no descriptions
            of_pages = of_pages.drop(columns=[name for name in of_pages if str(name).startswith("description")])
        if not self.context.config.site.brand:
            of_pages = of_pages.drop(columns=[name for name in of_pages if str(name).startswith("brand")])
        of_rows = of_pages.loc[rows["page"]].set_axis(rows.index, axis=0)
        traits = pd.concat([of_rows, query_traits(rows, pages, self.query_map.page_words[0])], axis=1)
        return traits[[name for name in TRAITS if name in traits]]

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
            first = with_trait.idxmax().where(with_trait.any()) if len(ranked) else pd.Series(np.nan, index=with_trait.columns)
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

    # -- titles that changed -------------------------------------------------------------------------------------------------------------

    @once
    def _changed(self) -> tuple[pd.DataFrame, Estimate]:
        """Pages whose title or description changed, with their sums on both sides; and the estimate of unchanged pages."""
        pages, rows, _ = self._parts
        texts = self.inputs.joined.changed_texts()
        texts = texts[texts.index.isin(pages.index)].drop(columns="page")
        windows = self.sums.windows
        if texts.empty:
            return texts, Estimate(np.zeros(0), np.zeros(0))
        first, last = pd.Timestamp(max(windows.first, windows.counted_since or windows.first)), pd.Timestamp(windows.as_of)
        known = pages.loc[texts.index]
        texts = dated(texts, known["modified"])
        texts_spans = spans(texts if windows.is_daily else texts.head(0), first, last)
        stayed = pd.Index(np.setdiff1d(rows["page"].unique(), texts.index), name=texts_spans.index.name)
        places = with_stand_ins(texts_spans, stayed)
        sums = pd.DataFrame(index=places.index)
        if len(places):
            self.context.say("comparing changed titles")
            window = Window(places["before_first"].min().date(), places["after_last"].max().date())
            table = self.context.engine.frame(places.rename_axis("page").reset_index().astype({"page": "int64"}))
            table = table.mutate(**{name: table[name].cast("date") for name in SPANS})
            summed = self.context.engine.fetch(
                reductions.around(self.inputs.joined.search, table, window, self.expectation.rates, of=self.inputs.subject)
            )
            sums = summed.astype({"page": "int64"}).set_index("page").reindex(places.index).fillna(0.0)
        sums = sums.reindex(columns=[f"{name}_{side}" for side in ("before", "after") for name in (*reductions.SUMS, "expected_clicks")])
        for side in ("before", "after"):
            sums[f"position_{side}"] = weighted_position(sums[f"position_sum_{side}"], sums[f"placed_{side}"])
        table = known[["page", "title", "description"]].join(texts).join(sums)
        titled = table["title_before"].notna() & table["title_before"].ne(table["title"])
        described = table["description_before"].notna() & table["description_before"].ne(table["description"])
        table["changed"] = np.select([titled & described, titled], ["title and description", "title"], "description")
        start = pd.to_datetime(table["crawled_after"]) + pd.Timedelta(days=SETTLING_DAYS + LEAST_DAYS)
        return table.assign(tells_from=start, early=start > last, has_days=windows.is_daily), estimated(sums.reindex(stayed))

    def changes(self) -> pd.DataFrame:
        """One row per page whose title or description changed between two inventories: `core.title_changes.CHANGES`."""
        changed, stayed = self._changed
        return change_effects(changed, stayed) if len(changed) else pd.DataFrame(columns=CHANGES)

    def trials(self) -> pd.DataFrame:
        """The combined effects of changes of one kind: `core.title_changes.TRIALS`."""
        changed, stayed = self._changed
        if changed.empty:
            return pd.DataFrame(columns=TRIALS)
        pages, rows, traits = self._parts
        before = pages.copy()
        for name in ("title", "description"):
            before.loc[changed.index, name] = changed[f"{name}_before"].fillna(changed[name])
        then = self._traits(before, rows)
        weight = rows["expected_clicks"].groupby(rows["page"]).sum()

        def has_trait(of: pd.DataFrame) -> pd.DataFrame:
            share = of.mul(rows["expected_clicks"], axis=0).groupby(rows["page"]).sum().div(weight, axis=0)
            return (share >= 0.5).reindex(changed.index).eq(True)

        now, old = has_trait(traits), has_trait(then)
        kinds = pd.DataFrame({"all changes": True}, index=changed.index)
        for name in map(str, now):
            kinds[f"{name}: mended" if TRAITS[name][1] else f"{name}: no longer"] = old[name] & ~now[name]
            kinds[f"{name}: new"] = now[name] & ~old[name]
        return trials(kinds, changed, stayed)
