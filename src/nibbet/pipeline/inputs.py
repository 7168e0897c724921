"""The joined sources, one property for each kind of facts."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from nibbet.core import link_rows, over_time, truncated
from nibbet.core import reduce as reductions
from nibbet.core.join.spans import chosen
from nibbet.core.recount import Recount, confirmed, sides, sudden_change
from nibbet.core.repairs import out_of_index
from nibbet.core.windows import Windows
from nibbet.core.words import as_typed
from nibbet.join.joined import Joined
from nibbet.kinds import SPLIT_BY
from nibbet.once import once
from nibbet.sources.load import read_sources

if TYPE_CHECKING:
    import ibis


from nibbet.pipeline.context import Context

#: what stands between the target queries of one page
SEVERAL = r"\s*[;,|\n\r]\s*"
#: a sum of visits with this in its name is known only if a table has one of these columns
TOLD_BY = {
    "sessions": {"sessions"},
    "engaged": {"engaged_sessions", "engaged_share"},
    "engagement_seconds": {"engagement_seconds", "seconds_each"},
    "conversions": {"conversions"},
    "revenue": {"revenue"},
    "organic": {"channel", "medium"},
}


@dataclass(frozen=True, eq=False)
class Inputs:
    """The sources of a site, joined by page; nothing here depends on the compared windows."""

    context: Context

    @once
    def joined(self) -> Joined:
        """The rows of all sources with their pages."""
        c, settings = self.context, self.context.sum_settings
        clean_rows = read_sources(*c.engines.pair, c.store, settings, c.root, c.frames, c.say)
        joined = Joined(c.engine, c.store, c.key, settings, clean_rows, c.say)
        joined.account  # noqa: B018 - asked for here, so that rows that cannot be used are told before anything is summed
        return joined

    @property
    def spellings(self) -> pd.DataFrame:
        """Every spelling: spelling, page, reason, sources."""
        return self.joined.addresses

    @property
    def pages(self) -> pd.DataFrame:
        """page (address), path, section of every page, by its number."""
        return self.joined.pages

    @once
    def days(self) -> pd.DataFrame:
        """One row per complete day of the site: date, clicks, impressions."""
        return self.joined.days

    @once
    def windows(self) -> Windows:
        """The recent, reference and long window, by the settings and the data."""
        settings, joined = self.context.sum_settings.windows, self.joined
        return chosen(
            joined.covers,
            joined.first,
            joined.as_of,
            recent=settings.recent,
            long=settings.long,
            reference=settings.reference,
            queries=joined.query_days,
            counted_since=self._counted_since,
        )

    @property
    def _counted_since(self) -> date | None:
        """The day since which impressions are counted as in the newest rows, by the settings or the data; None where they always were."""
        given = self.context.sum_settings.windows.counted_since
        if given is not None:
            return given if given > self.joined.first else None
        return None if self.recount is None else self.recount.since

    @once
    def recount(self) -> Recount | None:
        """The day since which impressions are counted differently, and what changed; None without one."""
        since = sudden_change(self.days)
        if since is None:
            return None
        before, after = sides(since)
        of = "pair" if self.has_grain("pair") else "page" if self.has_grain("page") else "query"

        def make() -> ibis.Table:
            rows = reductions.subject_rows(self.joined.search, of)
            return reductions.windowed(
                rows, {"before": (before, reductions.SUMS), "after": (after, reductions.SUMS)}, ["page_id", "query"], role=of
            )

        rows = self.context.fetch("recount", make).sort_values(["page_id", "query"], ignore_index=True)
        return confirmed(since, rows) or confirmed(since, rows.drop(columns="query").groupby("page_id", as_index=False).sum())

    @once
    def lists(self) -> pd.DataFrame:
        """One row per grain and period or day of search: see `core.truncated.lists`."""
        return self.context.fetch("lists", lambda: truncated.lists(self.joined.search))

    @property
    def cut_lists(self) -> pd.DataFrame:
        """The lists of periods that end above zero: see `core.truncated.cut_lists`."""
        return truncated.cut_lists(self.lists)

    @once
    def selected_days(self) -> pd.DataFrame:
        """The grains whose dated rows are a selection: see `core.truncated.selected_days`."""
        result = truncated.selected_days(self.lists)
        limited = {
            grain: int(self.context.fetch(f"distinct-{grain}", lambda g=grain: truncated.distinct_rows(self.joined.search, g))["rows"].iloc[0])  # type: ignore[misc]
            for grain in result.loc[result["limit"] > 0, "grain"]
        }
        full = [truncated.is_limit(limit, limited.get(grain, 0)) for grain, limit in zip(result["grain"], result["limit"], strict=True)]
        return result[np.array(full, dtype=bool)]

    @property
    def source_kinds(self) -> list[str]:
        """The kinds of sources that were given."""
        return self.joined.kinds

    def visits_as_given(self, sums: pd.DataFrame) -> pd.DataFrame:
        """Sums of visits, null where no table of landings has the measure."""
        given = self.joined.given["landings"]
        unknown = [name for name in map(str, sums) if any(not given & columns for sign, columns in TOLD_BY.items() if sign in name)]
        return sums.assign(**dict.fromkeys(unknown, np.nan))

    def has_grain(self, grain: str) -> bool:
        """Whether some search table has rows of this grain: page, query or pair."""
        return any(one.grain == grain for _, one in self.joined.files if one.kind == "search")

    @once
    def is_paired(self) -> bool:
        """Whether search rows of the recent window name queries of pages."""
        return self.has_grain("pair") and self.windows.query_days(self.windows.recent) > 0

    @property
    def subject(self) -> str:
        """The subject of search rows: pair where they name queries of pages, else page."""
        return "pair" if self.is_paired else "page"

    @property
    def curve_grain(self) -> str:
        """The rows from which the CTR curve is learnt: queries of pages, else totals of pages, else totals of queries."""
        return "pair" if self.is_paired else "page" if self.has_grain("page") else "query"

    @once
    def varying(self) -> set[str]:
        """The dimensions by which search rows differ."""
        rows = self.joined.table("search")
        assert rows is not None, "there is always search"

        def make() -> ibis.Table:
            several = {name: (rows[name].min() != rows[name].max()).fill_null(False) for name in SPLIT_BY}
            bare = rows.surface.isnull().any() & rows.surface.notnull().any()  # rows without a surface are of web search
            return rows.aggregate(**{**several, "surface": several["surface"] | bare})

        result = self.context.fetch("differing", make).iloc[0]
        return {name for name in SPLIT_BY if result[name]}

    def varies(self, dimension: str) -> bool:
        """Whether rows name more than one device, country or surface."""
        return dimension in self.varying

    @once
    def section_days(self) -> pd.DataFrame:
        """One row per section and day, in this order: section, date, clicks, impressions."""
        days = self.context.fetch("section-days", lambda: over_time.section_days(self.joined.search, self.engine_pages))
        return days.assign(date=pd.to_datetime(days["date"])).sort_values(["section", "date"], ignore_index=True)

    @once
    def engine_pages(self) -> ibis.Table:
        """Number, address and section of every page, in the engine."""
        return self.context.engine.frame(self.joined.pages[["page", "section"]].reset_index(names="number"))

    @once
    def demand_rows(self) -> pd.DataFrame | None:
        """The rows of the demand source, with queries spelled as in search rows; None without one."""
        if (table := self.joined.table("demand")) is None:
            return None
        rows = self.context.engine.fetch(table.filter(table.aside.isnull())).dropna(subset=["query"])
        return rows.assign(query=as_typed(rows["query"]), volume=rows["volume"].astype("float64"))

    @once
    def monthly_searches(self) -> pd.DataFrame | None:
        """query, demand: searches a month, over the last twelve known; None without a demand source."""
        if (rows := self.demand_rows) is None:
            return None
        rows = rows.dropna(subset=["volume"])
        month = pd.to_datetime(rows["month"])
        rows = rows[month.isna() | (month > month.max() - pd.DateOffset(months=12))]
        result: pd.DataFrame = rows.groupby("query", as_index=False)[["volume"]].mean()
        return result.rename(columns={"volume": "demand"}).astype({"query": "str"})

    @once
    def _all_snapshots(self) -> pd.DataFrame | None:
        """All rows of result snapshots: query, rank, url, title, kind (result, question), date; None without results."""
        if (table := self.joined.table("results")) is None:
            return None
        rows = self.context.engine.fetch(table.filter(table.aside.isnull())).dropna(subset=["query"])
        rows["query"] = as_typed(rows["query"])
        kind = rows["kind"].fillna("result").str.lower() if "kind" in rows else pd.Series("result", index=rows.index)
        rows = rows.assign(kind=np.where(kind.str.contains("question|frage|ask"), "question", "result"))
        return rows.sort_values(["query", "kind", "rank", "url", "title"], ignore_index=True)

    @once
    def snapshots(self) -> pd.DataFrame | None:
        """Rows of the newest result snapshot of each query: query, rank, url, title, kind; None without results."""
        if (rows := self._all_snapshots) is None:
            return None
        newest = rows.groupby("query")["date"].transform("max")
        return rows[rows["date"].isna() | (rows["date"] == newest)].reset_index(drop=True)

    @once
    def earlier_snapshots(self) -> pd.DataFrame | None:
        """Rows of the snapshot before the newest, of queries that have one; None without results."""
        if (rows := self._all_snapshots) is None:
            return None
        older = rows[rows["date"] < rows.groupby("query")["date"].transform("max")]
        return older[older["date"] == older.groupby("query")["date"].transform("max")].reset_index(drop=True)

    @once
    def _targets(self) -> pd.DataFrame | None:
        """page (number), query: the target queries of each page in the order of the editorial list; None without one."""
        rows = self.joined.small_source("editorial")
        if rows is None:
            return None
        named = rows.dropna(subset=["page_id", "target_query"])
        each = named["target_query"].str.split(SEVERAL, regex=True).explode()
        table = pd.DataFrame({"page": named["page_id"].astype("int64").reindex(each.index), "query": as_typed(each)})
        return table[table["query"] != ""].drop_duplicates()

    @property
    def target_queries(self) -> pd.DataFrame | None:
        """The target queries of each page, by query; None without an editorial list."""
        return None if self._targets is None else self._targets.sort_values(["query", "page"])

    @property
    def main_targets(self) -> pd.Series | None:
        """By page number, the first of its target queries; None without an editorial list."""
        return None if self._targets is None else self._targets.drop_duplicates("page").set_index("page")["query"]

    @once
    def robots(self) -> pd.DataFrame | None:
        """The rules of robots.txt: agent, rule, pattern; None where it is not given."""
        rules = self.joined.table("robots")
        return None if rules is None else self.context.engine.fetch(rules)

    @property
    def inlinks(self) -> pd.Series | None:
        """By page number, the number of pages of the site that link to it; None without links."""
        if (links := self.joined.table("links")) is None:
            return None
        return self.context.fetch("link-sums", lambda: link_rows.senders(links)).set_index("target_id")["links"]

    @property
    def outlinks(self) -> pd.Series | None:
        """By page number, the number of pages of the site to which it links; None without links."""
        if (links := self.joined.table("links")) is None:
            return None
        return self.context.fetch("target-sums", lambda: link_rows.targets(links)).set_index("source_id")["links"]

    @property
    def rare_links(self) -> pd.DataFrame | None:
        """source_id, target_id of links to pages with at most two linking pages; None without links."""
        if (links := self.joined.table("links")) is None:
            return None
        rows = self.context.fetch("rare-links", lambda: link_rows.rare(links))
        return rows.sort_values(["target_id", "source_id"], ignore_index=True)

    @property
    def anchors(self) -> pd.DataFrame:
        """page (number), anchor: the texts of links to each page, internal and external."""
        parts = [pd.DataFrame({"page": pd.Series(dtype="int64"), "anchor": pd.Series(dtype="str")})]
        if (links := self.joined.table("links")) is not None:
            parts.append(self.context.fetch("anchors", lambda: link_rows.anchors(links)))
        if (outside := self.joined.small_source("backlinks")) is not None:
            rows = outside[outside["aside"].isna() & outside["page_id"].notna()]
            parts.append(rows[["page_id", "anchor"]].rename(columns={"page_id": "page"}).dropna())
        result = pd.concat(parts, ignore_index=True).astype({"page": "int64", "anchor": "str"})
        return result.drop_duplicates().sort_values(["page", "anchor"], ignore_index=True)

    @property
    def index_exclusions(self) -> pd.Series:
        """The index state of each page that is not indexed, as in the crawl; null where it is or this is unknown."""
        inventory, pages = self.joined.inventory, self.pages
        if inventory is None or "index_state" not in inventory:
            return pd.Series(None, index=pages.index, dtype="object")
        known = inventory["index_state"].reindex(pages.index)
        return known.where(known.notna() & out_of_index(known))

    @property
    def page_kinds(self) -> pd.Series:
        """The kind of each page in the editorial list, null where it is not there."""
        editorial, pages = self.joined.small_source("editorial"), self.pages
        if editorial is None or "kind" not in editorial:
            return pd.Series(np.nan, index=pages.index, dtype="str")
        return editorial.dropna(subset=["page_id"]).drop_duplicates("page_id").set_index("page_id")["kind"].reindex(pages.index)
