"""What changed between two windows of a site, at every level."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import timedelta
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from nibbet.core import compare as core
from nibbet.core.members import pages_in_groups, queries_in_groups
from nibbet.core.season import Annual, annual_index
from nibbet.core.split import scaled_pairs
from nibbet.core.windows import Window, Windows
from nibbet.core.words import numbered

if TYPE_CHECKING:
    from nibbet.analysis import Analysis

#: clicks in both windows together from which a query or topic has a row among all levels; asked for by itself, every query has one
QUERY_CLICKS = 5


def year_earlier(windows: Windows) -> Windows | None:
    """The same windows a year earlier, or None where the data do not reach that far."""
    year = timedelta(days=364)  # the same weekdays
    moved = [Window(w.start - year, w.end - year) for w in (windows.recent, windows.reference)]
    if min(window.start for window in moved) < windows.first or not windows.is_daily:
        return None
    return replace(windows, recent=moved[0], reference=moved[1], reference_kind="before")


class Comparison:
    """The recent window of an analysis against its reference window; each level is computed when first asked for."""

    def __init__(self, analysis: Analysis) -> None:
        self._a = analysis

    @cached_property
    def _section(self) -> pd.Series:
        return self._a.known_pages["section"]

    @cached_property
    def annual(self) -> Annual:
        """The annual wave of each section."""
        return annual_index(self._a.section_weeks)

    @cached_property
    def terms(self) -> core.Terms:
        """What every level is held against."""
        a, w = self._a, self._a.windows
        season = self.annual.ratio(w.recent, w.reference) if w.reference_kind != "year" else pd.Series(dtype=float)
        return core.Terms(a.scale, a.config.verdicts.real_change, core.noise_of_weeks(a.days, w), a.sight, season)

    @cached_property
    def _season(self) -> pd.Series:
        """Per page number, the factor that the season alone gives: its section's, and its own where the data reach a year further back."""
        w, pages = self._a.windows, self._pages["key"]
        factor = core.season_share(pages.map(self._section), self.terms.season).to_numpy()
        if w.reference_kind != "year" and (earlier := year_earlier(w)) is not None:
            sums = self._a.at(earlier).page_sums.reindex(pages)
            last = pd.DataFrame({"recent": sums["clicks_recent"], "reference": sums["clicks_reference"]}).fillna(0)
            factor = core.own_season(last, factor, self._a.at(earlier).scale)
        return pd.Series(factor, index=pages)

    @cached_property
    def _whole_season(self) -> float:
        """The factor that the season gives to the site."""
        base = self._pages["reference"].to_numpy(float)
        return float((base * self._season.to_numpy()).sum() / base.sum()) if base.sum() else 1.0

    @cached_property
    def _pages(self) -> pd.DataFrame:
        """key (page number), recent, reference: clicks of every page."""
        sums = self._a.page_sums
        table = pd.DataFrame({"key": sums.index, "recent": sums["clicks_recent"], "reference": sums["clicks_reference"]})
        return table.fillna(0).sort_values("key", ignore_index=True)

    @cached_property
    def _pairs(self) -> pd.DataFrame:
        """Pairs with both windows, the reference scaled."""
        return scaled_pairs(self._a.pair_sums, self._a.scale)

    @cached_property
    def pages(self) -> pd.DataFrame:
        """Level page, keyed by number."""
        table = core.compared(self._pages, "page", self.terms, season=self._season)
        return core.with_parts(table, self._pairs, self.terms, by="page")

    def _above(self, level: str, key: pd.Series) -> pd.DataFrame:
        """A level whose members are pages; `key` per row of `_pages`."""
        rows = self._pages.assign(key=key.to_numpy()).dropna(subset=["key"]).groupby("key", as_index=False)[["recent", "reference"]].sum()
        base = self.pages["reference"] + self.pages["season"]
        sums = pd.DataFrame({"base": self.pages["reference"], "seasonal": base}).groupby(key.to_numpy()).sum().reindex(rows["key"])
        season = (sums["seasonal"] / sums["base"].where(sums["base"] > 0)).fillna(1.0).reset_index(drop=True)
        return core.summed_parts(core.compared(rows, level, self.terms, season=season), self.pages, key.to_numpy())

    def _site(self) -> pd.DataFrame:
        return self._above("site", pd.Series("site", index=self._pages.index))

    def _sections(self) -> pd.DataFrame:
        return self._above("section", self._pages["key"].map(self._section))

    def _groups(self) -> pd.DataFrame:
        own = self._a.config.groups
        parts = []
        number = pd.Series(np.arange(len(self._pages)), index=self._pages["key"])
        members = pages_in_groups(self._a.known_pages["path"], own.pages)
        for name, rows in members.groupby("group", sort=False):
            inside = pd.Series(pd.NA, index=self._pages.index, dtype="object")
            inside.iloc[number.reindex(rows["page"]).dropna().to_numpy(int)] = str(name)
            parts.append(self._above("group", inside))
        if own.queries and len(self._named):
            code, texts = numbered(self._named)
            found = queries_in_groups(texts, own.queries)
            found["number"] = pd.Index(texts).get_indexer(found["query"])
            rows = self._named.assign(number=code).merge(found[["number", "group"]], on="number")
            parts.append(self._of_pairs("query group", rows, "group"))
        return pd.concat(parts, ignore_index=True) if parts else core.nothing(core.CHANGES)

    @cached_property
    def _named(self) -> pd.DataFrame:
        return self._pairs[self._pairs["query"] != ""]

    def _of_pairs(self, level: str, pairs: pd.DataFrame, by: str, *, least: float = 0.0) -> pd.DataFrame:
        """A level whose members are pairs: `by` names the column of the key; the reference in `pairs` is scaled already.

        least: clicks of both windows together that a member must have.
        """
        code, keys = pd.factorize(pairs[by], sort=True)
        keys = pd.Index(keys).astype("str")
        recent, base = (np.bincount(code, pairs[name].to_numpy(float), len(keys)) for name in ("clicks", "clicks_reference"))
        weight = pairs["clicks_reference"].to_numpy(float) + 1e-9
        factor = pairs["page"].map(self._season).fillna(1.0).to_numpy(float)
        season = np.bincount(code, factor * weight, len(keys)) / np.bincount(code, weight, len(keys))
        kept = np.flatnonzero(recent + base >= least)
        rows = pd.DataFrame({"key": keys[kept], "recent": recent[kept], "reference": base[kept] / self.terms.scale})
        table = core.compared(rows, level, self.terms, season=pd.Series(season[kept]), whole=float(base.sum()))
        inside = pairs[np.isin(code, kept)] if len(kept) < len(keys) else pairs
        return core.with_parts(table, inside, self.terms, by=by)

    def _queries(self, least: float) -> pd.DataFrame:
        return self._of_pairs("query", self._named, "query", least=least) if len(self._named) else core.nothing(core.CHANGES)

    def _brand(self) -> pd.DataFrame:
        if self._named.empty or not self._a.config.site.brand:
            return core.nothing(core.CHANGES)
        rows = self._named.assign(key=np.where(self._named["brand"], "brand", "other"))
        table = self._of_pairs("brand", rows.rename(columns={"key": "brand_class"}), "brand_class")
        subjects = core.with_brand(rows[rows["brand"]], self._a.config.site.brand)
        if subjects.empty:
            return table
        return pd.concat([table, self._of_pairs("with brand", subjects, "subject")], ignore_index=True)

    def _topics(self, least: float) -> pd.DataFrame:
        number, texts = numbered(self._named)
        topic, topics = pd.factorize(texts.map(self._a.query_topics))
        rows = self._named.assign(topic=pd.Categorical.from_codes(topic[number], topics))
        rows = rows[rows["topic"].notna()]
        return self._of_pairs("topic", rows, "topic", least=least) if len(rows) else core.nothing(core.CHANGES)

    def _dimension(self, name: str) -> pd.DataFrame:
        if not self._a.differs(name):
            return core.nothing(core.CHANGES)
        rows = self._a.split_sums(name)
        rows = rows.assign(key=rows["value"].where(rows["value"] != "", "unknown"))
        sums = rows.groupby("key", as_index=False)[["clicks", "clicks_reference"]].sum()
        table = core.compared(
            sums.rename(columns={"clicks": "recent", "clicks_reference": "reference"}),
            name,
            self.terms,
            season=pd.Series(self._whole_season, index=sums.index),
        )
        curve = self._a.curve
        for suffix in ("", "_reference"):
            place = rows[f"position{suffix}"].fillna(100.0).to_numpy(float)
            rows[f"expected_clicks{suffix}"] = rows[f"impressions{suffix}"] * curve.rate(place)
        # each page's queries stand together here: its place is the mean of theirs
        rows["query"] = rows["page_id"].astype("str") + " " + rows["key"]
        return core.with_parts(table, scaled_pairs(rows, self.terms.scale), self.terms, by="key")

    def _channel(self) -> pd.DataFrame:
        rows = self._a.visit_sums_by("channel")
        if rows is None or rows.empty:
            return core.nothing(core.CHANGES)
        rows = rows.assign(key=rows["channel"].fillna("unknown"))
        table = core.compared(
            pd.DataFrame({"key": rows["key"], "recent": rows["sessions_recent"], "reference": rows["sessions_reference"]}),
            "channel",
            self.terms,
            measure="sessions",
        )
        return table

    def _visits(self) -> pd.DataFrame:
        """The chain from click to conversion, for the site and its sections."""
        rows = self._a.visit_sums_by("page_id")
        if rows is None or rows.empty:
            return core.nothing(core.CHANGES)
        table = rows.set_index("page_id").join(self._a.page_sums[["clicks_recent", "clicks_reference"]], how="outer").fillna(0)
        numbers = table.select_dtypes("number")
        whole = numbers.sum().to_frame().T.assign(key="site")
        sections = numbers.groupby(self._section.reindex(numbers.index)).sum().reset_index(names="key")
        pages = self.pages.assign(section=self._pages["key"].map(self._section).to_numpy())
        base = pages.groupby("section")[["reference", "season"]].sum()
        of_section = sections["key"].map((1 + base["season"] / base["reference"].where(base["reference"] > 0)).fillna(1.0)).fillna(1.0)
        return pd.concat(
            [
                core.of_visits(whole, "site", self.terms, pd.Series([self._whole_season])),
                core.of_visits(sections, "section", self.terms, of_section),
            ],
            ignore_index=True,
        )

    def changes(self, by: str | None = None) -> pd.DataFrame:
        """The columns CHANGES of one level (all when left out, queries then from QUERY_CLICKS clicks on): real ones first, the largest first."""
        self._a.say("comparing windows")
        makers: dict[str, Callable[[], pd.DataFrame]] = {
            "site": self._site,
            "section": self._sections,
            "group": self._groups,
            "brand": self._brand,
            **{name: lambda name=name: self._dimension(name) for name in core.LEVELS[4:7]},  # type: ignore[misc]
            "channel": self._channel,
            "topic": lambda: self._topics(QUERY_CLICKS if by is None else 0.0),
            "page": lambda: self.pages.assign(key=self.pages["key"].map(self._a.known_pages["page"])),
            "query": lambda: self._queries(QUERY_CLICKS if by is None else 0.0),
        }
        parts = [make() for name, make in makers.items() if by in (None, name)]
        if by in (None, "site", "section"):
            visits = self._visits()
            parts.append(visits[visits["level"].isin(["site", "section"] if by is None else [by])])
        table = pd.concat([part for part in parts if len(part)], ignore_index=True) if any(map(len, parts)) else core.nothing(core.CHANGES)
        order = {
            name: number for number, name in enumerate([*core.LEVELS[:3], "query group", *core.LEVELS[3:4], "with brand", *core.LEVELS[4:]])
        }
        level = table["level"].map(order).to_numpy()
        measure = table["measure"].map({"clicks": 0}).fillna(1).to_numpy()
        size = -np.abs(table["change"].to_numpy(float))
        keep = np.ones(len(table), dtype=bool)
        if by is None:
            small = table["level"].eq("with brand") & (table["recent"] + table["reference"] < QUERY_CLICKS)
            keep = ~(small | (table["level"].eq("page") & (table["recent"] + table["reference"] == 0))).to_numpy()
        rank = np.lexsort([table["key"].astype("str").to_numpy(dtype=object), size, ~table["real"].to_numpy(bool), measure, level])
        return (
            table.iloc[rank[keep[rank]]]
            .reset_index(drop=True)
            .astype({"real": bool, "key": "str", "why": "str", "level": "str", "measure": "str"})
        )

    def losses(self) -> pd.DataFrame:
        """Queries of a page that lose together, named as one loss: the columns LOSSES, largest first."""
        if self._named.empty:
            return core.nothing(core.LOSSES)
        raw = self._a.pair_sums
        found = core.losing_subjects(raw[raw["query"] != ""], self.terms, self._a.config.site.language)
        return found.assign(page=found["page"].map(self._a.known_pages["page"]))
