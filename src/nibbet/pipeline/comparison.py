"""The changes between two windows of a site, at every level."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core import compare as core
from nibbet.core.change import drift_of
from nibbet.core.members import pages_in_groups, queries_in_groups
from nibbet.core.pull import weighted_position
from nibbet.core.rising import RISING, rising
from nibbet.core.split import ROWS, row_parts, scaled_pairs
from nibbet.core.windows import NOT_OF_QUERIES
from nibbet.core.words import numbered
from nibbet.errors import NotFoundError
from nibbet.once import once
from nibbet.pipeline.changes import Changes
from nibbet.pipeline.context import Context
from nibbet.pipeline.expectation import Expectation
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.query_map import QueryMap
from nibbet.pipeline.sums import Sums

Floats = NDArray[np.float64]

#: clicks in both windows together from which a query or topic is listed among all levels; a level on its own lists every query
QUERY_CLICKS = 5


class Strays(NamedTuple):
    """Per key, its own noise (see `core.compare.mean_noise`), and the factor due to the season alone."""

    noise: Floats
    season: Floats


@dataclass(frozen=True, eq=False)
class Comparison:
    """The recent window compared with the reference window; each level is computed on first use."""

    context: Context
    inputs: Inputs
    sums: Sums
    expectation: Expectation
    query_map: QueryMap
    changes: Changes

    @once
    def _pages(self) -> pd.DataFrame:
        """key (page number), recent, reference, impressions, impressions_reference (not scaled), and section, kind (of access), noise, season."""
        facts = {
            "section": self.inputs.pages["section"],
            "kind": self.changes.successors.access,
            "noise": self.changes.noise,
            "season": self.changes.season,
        }
        return self.sums.page_counts.assign(**{name: of_page.to_numpy() for name, of_page in facts.items()})

    @once
    def _pairs(self) -> pd.DataFrame:
        """The rows that cover both windows, the reference scaled, and the parts of their change."""
        parts = self.changes.row_parts
        return scaled_pairs(self.changes.successors.pairs, self.sums.scale).assign(**{f"by_{name}": parts[name] for name in ROWS})

    @once
    def pages(self) -> pd.DataFrame:
        """Level page, keyed by number."""
        kind = pd.Series(self._pages["kind"].to_numpy(), index=self._pages["key"])
        page = self.changes.successors.pairs["page"]
        return core.with_parts(
            self.changes.page_changes,
            self.changes.row_parts,
            page,
            page.map(kind),
            whole=self._pages["kind"],
            taken=self.changes.successors.taken_over.to_numpy(np.float64),
        )

    def _moved(self) -> pd.DataFrame:
        """Level moved page: pages that took the place of others, both windows with their old addresses, keyed by number."""
        moved = np.flatnonzero(self.changes.successors.taken_over > 0)
        names = ["recent", "reference", "impressions", "impressions_reference"]
        rows = self._pages.assign(
            **{name: self.changes.successors.with_old(self._pages[name].to_numpy(np.float64)) for name in names}
        ).iloc[moved]
        if rows.empty:
            return core.nothing(core.CHANGES)
        noise, season = rows["noise"].to_numpy(np.float64), rows["season"].to_numpy(np.float64)
        table = core.compared(rows, "moved page", self.changes.terms, noise=noise, season=season)
        page = self.changes.successors.pairs["page"]
        return core.with_parts(table, self.changes.row_parts, page, pd.Series("", index=page.index), whole=pd.Series("", index=table.index))

    def _above(self, level: str, key: pd.Series) -> pd.DataFrame:
        """A level whose members are pages; `key` per row of `_pages`."""
        pages = self._pages.assign(key=key.to_numpy()).dropna(subset=["key"])
        code, keys = pd.factorize(pages["key"], sort=True)
        names = ["recent", "reference", "impressions", "impressions_reference"]
        rows = pd.DataFrame({"key": keys, **{name: np.bincount(code, pages[name].to_numpy(float), len(keys)) for name in names}})
        noise, season = self._strays(pages, code, len(keys))
        table = core.compared(rows, level, self.changes.terms, noise=noise, season=season)
        fine = self.pages.loc[pages.index]
        return core.summed_parts(table, fine, pages["key"].to_numpy(), pages["kind"])

    def _strays(self, rows: pd.DataFrame, key: np.ndarray, keys: int) -> Strays:
        """Noise and season of keys whose members are rows: recent, reference (not scaled), noise, season."""
        base = rows["reference"].to_numpy(float) * self.changes.terms.scale
        clicks = (rows["recent"].to_numpy(float) + base) / 2
        weight = base + 1e-9
        season = np.bincount(key, rows["season"].to_numpy(float) * weight, keys) / np.maximum(np.bincount(key, weight, keys), 1e-9)
        return Strays(core.mean_noise(clicks, rows["noise"].to_numpy(np.float64), key, keys), season)

    def _site(self) -> pd.DataFrame:
        if self.sums.compares_totals_of_queries and not self.inputs.has_grain("page") and not self.inputs.is_paired:
            return self._of_pairs("site", self._named.assign(site="site"), "site")
        return self._above("site", pd.Series("site", index=self._pages.index))

    def _sections(self) -> pd.DataFrame:
        return self._above("section", self._pages["section"])

    def _groups(self) -> pd.DataFrame:
        settings = self.context.config.groups
        parts = []
        number = pd.Series(np.arange(len(self._pages)), index=self._pages["key"])
        members = pages_in_groups(self.inputs.pages["path"], settings.pages)
        for name, rows in members.groupby("group", sort=False):
            inside = pd.Series(pd.NA, index=self._pages.index, dtype="object")
            inside.iloc[number.reindex(rows["page"]).dropna().to_numpy(int)] = str(name)
            parts.append(self._above("group", inside))
        if settings.queries and len(self._named):
            parts.append(self.of_queries(queries_in_groups(pd.Series(numbered(self._named)[1]), settings.queries)))
        return pd.concat(parts, ignore_index=True) if parts else core.nothing(core.CHANGES)

    def of_queries(self, members: pd.DataFrame) -> pd.DataFrame:
        """Groups of queries as rows of level query group. members: group, query (text): one row per membership."""
        if self._named.empty or members.empty:
            return core.nothing(core.CHANGES)
        code, texts = numbered(self._named)
        numbers = members.assign(number=pd.Index(texts).get_indexer(members["query"]))
        rows = self._named.assign(number=code).merge(numbers[["number", "group"]], on="number")
        return self._of_pairs("query group", rows, "group") if len(rows) else core.nothing(core.CHANGES)

    @once
    def _named(self) -> pd.DataFrame:
        """The pairs that name a query, or totals of queries (with page -1) where only these cover both windows."""
        if not self.sums.compares_totals_of_queries:
            return self._pairs[self._pairs["query"] != ""]
        rows = scaled_pairs(self.expectation.query_totals_in_both, self.sums.scale)
        parts = row_parts(rows, self.changes.terms.sight, alike=self.changes.terms.counted_alike)
        return rows.assign(**{f"by_{name}": parts[name] for name in ROWS})

    def _of_pairs(self, level: str, pairs: pd.DataFrame, by: str, *, least: float = 0.0) -> pd.DataFrame:
        """A level whose members are pairs: `by` is the column of the key; the reference in `pairs` is already scaled.

        least: clicks of a member in both windows together.
        """
        terms = self.changes.terms
        code, keys = pd.factorize(pairs[by], sort=True)
        keys = pd.Index(keys).astype("str")
        names = {"recent": "clicks", "reference": "clicks_reference", "impressions": "impressions"}
        names |= {"impressions_reference": "impressions_reference"}
        sums = {mine: np.bincount(code, pairs[name].to_numpy(float), len(keys)).astype(np.float64) for mine, name in names.items()}
        noise, season = self._strays(*self._members(code, pairs), len(keys))
        if level == "query" and not self.sums.compares_totals_of_queries:  # single queries vary independently of their pages
            noise = np.hypot(noise, drift_of(sums["recent"], sums["reference"], 1.0, noise)).round(2)
        kept = np.flatnonzero(sums["recent"] + sums["reference"] >= least)
        scaled = {"recent": 1.0, "impressions": 1.0, "reference": terms.scale, "impressions_reference": terms.scale}
        rows = pd.DataFrame({"key": keys[kept], **{name: sums[name][kept] / scale for name, scale in scaled.items()}})
        whole = float(sums["reference"].sum())
        table = core.compared(rows, level, terms, noise=noise[kept], season=season[kept], whole=whole)
        inside = np.isin(code, kept)
        parts = pairs.loc[inside, [f"by_{name}" for name in ROWS]].set_axis(ROWS, axis=1)
        kinds = np.append(self._pages["kind"].to_numpy(dtype=object), "")  # the last is that of no page
        kind = pd.Series(kinds[pairs["page"].to_numpy()[inside]])
        return core.with_parts(table, parts.reset_index(drop=True), keys[code[inside]], kind)

    def _members(self, code: NDArray[np.int64], pairs: pd.DataFrame) -> tuple[pd.DataFrame, NDArray[np.int64]]:
        """What varies as a whole in the keys of pairs (`code`), and the key of each: the clicks of each page in the key, with the noise and
        season of the page; or totals of queries, each with the noise of all of them and the season of the site.
        """
        recent, reference = pairs["clicks"].to_numpy(float), pairs["clicks_reference"].to_numpy(float)
        if self.sums.compares_totals_of_queries:
            season = float(self._whole.season[0]) if len(self._pages) else 1.0
            noise = drift_of(recent, reference, season)
            reference = reference / self.changes.terms.scale
            return pd.DataFrame({"recent": recent, "reference": reference, "noise": noise, "season": season}), code
        cell, where = np.unique(code.astype(np.int64) * len(self._pages) + pairs["page"].to_numpy(), return_inverse=True)
        page = self._pages.iloc[cell % len(self._pages)]
        members = {
            "recent": np.bincount(where, recent, len(cell)),
            "reference": np.bincount(where, reference, len(cell)) / self.changes.terms.scale,
            "noise": page["noise"].to_numpy(),
            "season": page["season"].to_numpy(),
        }
        return pd.DataFrame(members), cell // len(self._pages)

    def _queries(self, least: float) -> pd.DataFrame:
        return self._of_pairs("query", self._named, "query", least=least) if len(self._named) else core.nothing(core.CHANGES)

    def _brand(self) -> pd.DataFrame:
        if self._named.empty or not self.context.config.site.brand:
            return core.nothing(core.CHANGES)
        rows = self._named.assign(key=np.where(self._named["brand"], "brand", "other"))
        table = self._of_pairs("brand", rows.rename(columns={"key": "brand_class"}), "brand_class")
        subjects = core.with_brand(rows[rows["brand"]], self.context.config.site.brand)
        if subjects.empty:
            return table
        return pd.concat([table, self._of_pairs("with brand", subjects, "subject")], ignore_index=True)

    def _topics(self, least: float) -> pd.DataFrame:
        number, texts = numbered(self._named)
        topic, topics = pd.factorize(texts.map(self.query_map.query_topics))
        rows = self._named.assign(topic=pd.Categorical.from_codes(topic[number], topics))
        rows = rows[rows["topic"].notna()]
        return self._of_pairs("topic", rows, "topic", least=least) if len(rows) else core.nothing(core.CHANGES)

    def _dimension(self, name: str) -> pd.DataFrame:
        if not self.inputs.varies(name):
            return core.nothing(core.CHANGES)
        terms, pages = self.changes.terms, self._pages
        rows = self.sums.by_dimension(name)
        rows = rows.assign(
            key=rows["value"].where(rows["value"] != "", "unknown"), page=self.changes.successors.of_page[rows["page_id"].to_numpy()]
        )
        rows = rows.sort_values(["key", "page"], ignore_index=True)
        of_rows = pages.iloc[rows["page"].to_numpy()]
        rows = rows.assign(noise=of_rows["noise"].to_numpy(), season=of_rows["season"].to_numpy(), section=of_rows["section"].to_numpy())
        rows = rows.assign(kind=of_rows["kind"].to_numpy(), recent=rows["clicks"], reference=rows["clicks_reference"])
        code, keys = pd.factorize(rows["key"], sort=True)
        names = ["recent", "reference", "impressions", "impressions_reference"]
        sums = pd.DataFrame({"key": keys, **{one: np.bincount(code, rows[one].to_numpy(float), len(keys)) for one in names}})
        noise, season = self._strays(rows, code, len(keys))
        table = core.compared(sums, name, terms, noise=noise, season=season)
        for suffix in ("", "_reference"):
            place = rows[f"position{suffix}"].fillna(100.0).to_numpy(float)
            rows[f"expected_clicks{suffix}"] = rows[f"impressions{suffix}"] * self.expectation.curve.rate(place)
        # the queries of each page form one row here, with their mean position
        rows["query"] = rows["page"].astype("str") + " " + rows["key"]
        came = self.changes.successors.came.to_numpy()[rows["page"].to_numpy()]
        parts = row_parts(
            scaled_pairs(rows.assign(came=came), terms.scale), terms.sight, alike=terms.counted_alike, placed=terms.places_tell
        )
        return core.with_parts(table, parts, rows["key"].to_numpy(), rows["kind"])

    def _channel(self) -> pd.DataFrame:
        rows, (noise, season) = self._sessions("channel"), self._whole
        return core.compared(rows, "channel", self.changes.terms, noise=noise, season=season, measure="sessions")

    def _source(self) -> pd.DataFrame:
        """Sites that send visits: each with its own noise, estimated from all of them."""
        rows, (noise, season) = self._sessions("source"), self._whole
        drift = drift_of(rows["recent"].to_numpy(float), rows["reference"].to_numpy(float), self.changes.terms.scale * season)
        return core.compared(rows, "source", self.changes.terms, noise=np.maximum(noise, drift), season=season, measure="sessions")

    def _sessions(self, by: str) -> pd.DataFrame:
        """key, recent, reference (not scaled): the sessions of each channel or source."""
        rows = self.sums.visits_by(by)
        if rows is None or rows[by].isna().all():
            return pd.DataFrame({"key": [], "recent": [], "reference": []}).astype({"recent": float, "reference": float})
        then = rows["sessions_reference"] * self._visits_scaled
        return pd.DataFrame({"key": rows[by].fillna("unknown"), "recent": rows["sessions_recent"], "reference": then})

    @property
    def _visits_scaled(self) -> float:
        """What reference sums of visits need before they are scaled like those of search: 1 unless either lacks days."""
        return self.sums.visits_scale / self.sums.scale

    @once
    def _whole(self) -> Strays:
        """Noise and season of the site."""
        return self._strays(self._pages, np.zeros(len(self._pages), dtype=np.int64), 1)

    def _visits(self) -> pd.DataFrame:
        """The funnels from click to conversion, for the site and its sections."""
        rows = self.sums.visits_by("page_id")
        if rows is None or rows.empty:
            return core.nothing(core.CHANGES)
        visits = rows.set_index("page_id").dropna(axis="columns", how="all")
        then = [name for name in map(str, visits) if name.endswith("_reference")]
        visits[then] = visits[then] * self._visits_scaled
        table = visits.join(self.sums.pages[["clicks_recent", "clicks_reference"]], how="outer").fillna(0)
        numbers = table.select_dtypes("number").reindex(self._pages["key"]).fillna(0)
        whole = numbers.sum().to_frame().T.assign(key="site")
        code, keys = pd.factorize(self._pages["section"], sort=True)
        sections = numbers.groupby(code).sum().assign(key=keys).reset_index(drop=True)
        section_strays = self._strays(self._pages, code, len(keys))
        terms = self.changes.terms
        parts = [("site", whole, self._whole), ("section", sections, section_strays)]
        return pd.concat(
            [core.of_visits(counts, level, terms, noise=noise, season=season) for level, counts, (noise, season) in parts],
            ignore_index=True,
        )

    def table(self, by: str | None = None) -> pd.DataFrame:
        """The columns CHANGES of one level (all if omitted, queries then from QUERY_CLICKS clicks): real ones first, by size."""
        self.context.say("comparing windows")
        makers: dict[str, Callable[[], pd.DataFrame]] = {
            "site": self._site,
            "section": self._sections,
            "group": self._groups,
            "brand": self._brand,
            **{name: lambda name=name: self._dimension(name) for name in core.LEVELS[4:7]},  # type: ignore[misc]
            "channel": self._channel,
            "source": self._source,
            "topic": lambda: self._topics(QUERY_CLICKS if by is None else 0.0),
            "page": lambda: self.pages.assign(key=self.pages["key"].map(self.inputs.pages["page"])),
            "moved page": lambda: self._moved().assign(key=lambda rows: rows["key"].map(self.inputs.pages["page"])),
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

    def rising(self, level: str) -> pd.DataFrame:
        """Queries or topics that are new, rise or fade: the columns `core.rising.RISING`. Raises NotFoundError where one window has no queries."""
        if self.inputs.is_paired and not (self.sums.windows.compares_queries or self.sums.compares_totals_of_queries):
            raise NotFoundError(f"{NOT_OF_QUERIES} Name shorter windows, as: --days 14")
        if self._named.empty:
            return pd.DataFrame(columns=RISING)
        table = self._queries(0.0) if level == "query" else self._topics(0.0)
        table, rows = table[~table["key"].isin(self.query_map.junk_queries)], self._named
        number, texts = numbered(rows)
        keys = pd.Series(texts).astype("str")
        key_of_row = (keys if level == "query" else keys.map(self.query_map.query_topics)).to_numpy()[number]
        # both windows, since fading queries have impressions in the earlier one
        shown = rows["impressions"] + rows["impressions_reference"]
        placed = pd.DataFrame({"key": key_of_row, "page": rows["page"].to_numpy(), "shown": shown.to_numpy(float)}).dropna(subset=["key"])
        placed = placed.assign(position_sum=rows["position_sum"].to_numpy()[placed.index], placed=rows["placed"].to_numpy()[placed.index])
        sums = placed.groupby("key")[["position_sum", "placed"]].sum()
        of_pages: pd.DataFrame = placed.groupby(["key", "page"], as_index=False)[["shown"]].sum()
        of_pages = of_pages.sort_values(["key", "shown", "page"], ascending=[True, False, True])
        leading = of_pages.drop_duplicates("key").set_index("key")["page"]
        places = pd.DataFrame({"position": weighted_position(sums["position_sum"], sums["placed"]), "page": leading})
        result = rising(table, places, self.changes.terms)
        return result.assign(page=result["page"].map(self.inputs.pages["page"]))

    def losses(self) -> pd.DataFrame:
        """Queries of a page that lose together, reported as one loss: the columns LOSSES, by size."""
        if self._named.empty or self.sums.compares_totals_of_queries:
            return core.nothing(core.LOSSES)
        raw, named = self.changes.successors.pairs, (self.changes.successors.pairs["query"] != "").to_numpy()
        pages = self._pages.set_index("key").rename(columns={"kind": "access"})
        pages["access"] = pages["access"].where(self.changes.successors.came, "")
        parts = self.changes.row_parts[named].reset_index(drop=True)
        result = core.losing_subjects(
            raw[named].reset_index(drop=True), parts, pages, self.changes.terms, self.context.config.site.language
        )
        return result.assign(page=result["page"].map(self.inputs.pages["page"]))
