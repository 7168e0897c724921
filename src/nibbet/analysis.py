"""The analysis of one site, step by step: each table is computed when first asked for, from those before it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from scipy.sparse import csr_matrix

from nibbet.core import groups as merging
from nibbet.core import reduce as reductions
from nibbet.core.access import access_of
from nibbet.core.briefs import Brief, Neighbours, make_brief
from nibbet.core.compare import Terms, compared, own_season, page_noise, shared_noise
from nibbet.core.curve import SEGMENT, Curve, country_levels, learn_curve
from nibbet.core.decline import LEAST_EXPECTED, TRENDS
from nibbet.core.decline import trends as changes_of_level
from nibbet.core.ideas import between, check_ideas
from nibbet.core.join import DETAIL
from nibbet.core.languages import asked_in
from nibbet.core.ledger import (
    NEW_DAYS,
    judged_as_one,
    ledger,
    parts_of_change,
    with_others,
    with_pull,
    with_sound_flags,
    with_ways,
    without_page,
)
from nibbet.core.likeness import chosen_beside, leads, one_search, title_likeness
from nibbet.core.members import pages_in_groups
from nibbet.core.openings import COLUMNS as OPENINGS
from nibbet.core.openings import by_gain, climbs_of_pages, find_openings, within_reach
from nibbet.core.peers import ENGAGEMENT, SEGMENTS, beside_peers, engagement_by_channel, judged_pulls, odd_segments, rates_of_parts
from nibbet.core.pull import shrunk_pull, weighted_position
from nibbet.core.querymap import add_answer, add_roles, page_words, query_totals
from nibbet.core.redirects import (
    ANSWERS,
    BESIDE,
    SAYS_TOO,
    answering_page,
    covering_page,
    names_its_own,
    section_page,
    straighten,
    subject_of,
)
from nibbet.core.repairs import MATTERS, find_repairs, missed_addresses, out_of_index
from nibbet.core.robots import closed_alone
from nibbet.core.rules import Facts, is_hub, stays
from nibbet.core.season import CALENDAR, SEASON_CLICKS, Annual, annual_index, page_waves, season_calendar, weekday_index
from nibbet.core.spans import chosen
from nibbet.core.split import Sight, learn_sight, row_parts, scaled_pairs, searched
from nibbet.core.standing import Standing, learn_standing
from nibbet.core.strength import formats, lengths, strengths
from nibbet.core.tables import named_pages, named_queries, rows_at, spelt, with_lone
from nibbet.core.topics import Grouping, group_pairs, intents_of, topic_languages, topic_peaks, topic_table
from nibbet.core.verdicts import decide, reasoning
from nibbet.core.windows import MONTH_DAYS, RECENT_DAYS, Window, Windows, weekday_scale, year_earlier
from nibbet.core.words import Lexicon, as_typed, numbered
from nibbet.engine import AnyEngine, Engine, Store, open_engines
from nibbet.engine.store import key_of
from nibbet.errors import NotFoundError
from nibbet.once import ahead, by_one_thread, limit_threads, once
from nibbet.scopes import RESULTS, SUMS, scope
from nibbet.sources.joined import Joined, matched
from nibbet.sources.load import read_sources

if TYPE_CHECKING:
    import ibis

    from nibbet.config import Config

Say = Callable[[str], None]
#: ways in which rows of one page and query may be split
DIMENSIONS = ("device", "country", "surface")
SEASONS = ["level", "key", "season", *CALENDAR, "weekend"]
#: from so many rows and pages on, the CTR curve is learnt from a part of the pages: what is left is more than it needs
CURVE_ROWS, CURVE_PAGES = 1_000_000, 20_000
#: what an expected click weighs beside one had, where it is asked what a page is chosen for: enough to bridge a page without clicks
PRIOR_CHOICE = 0.2


@dataclass(frozen=True)
class Calibration:
    """What figures of every window are held against, so that a page and its comparison rest on the same: learnt once for a site.

    curve: the CTR curve; countries: country, level of those where searchers choose otherwise; sight: how far searchers look.
    """

    curve: Curve
    countries: pd.DataFrame
    sight: Sight


class Analysis:
    """From the sources of a site to its verdicts. Frames carry pages by their number; the tables for people name them."""

    def __init__(
        self,
        settings: Config,
        root: Path,
        frames: Mapping[str, Any],
        store: Store,
        key: str,
        say: Say,
        calibration: Calibration | None = None,
    ) -> None:
        """key: the digest of all that the reductions rest on, under which the store keeps them; of the settings those in `scopes.SUMS`.

        calibration: what was learnt already; else it is learnt from the windows of the settings.
        """
        self._given = calibration
        self._whole, self._root, self._frames, self._store, self._key, self._say = settings, root, frames, store, key, by_one_thread(say)
        self.config, self._of_sums = scope(settings, RESULTS), scope(settings, SUMS)

    # -- what was read -------------------------------------------------------------------------------------------------------------------

    @once
    def _engines(self) -> tuple[Engine, AnyEngine]:
        own = self._whole.engine
        limit_threads(own.threads)
        self._store.at_work()
        return open_engines(own.backend, memory=own.memory, threads=own.threads, root=self._root)

    @property
    def _engine(self) -> AnyEngine:
        return self._engines[1]

    @once
    def _joined(self) -> Joined:
        cleans = read_sources(*self._engines, self._store, self._of_sums, self._root, self._frames, self._say)
        joined = Joined(self._engine, self._store, self._key, self._of_sums, cleans, self._say)
        joined.account  # noqa: B018 - asked for here, so that rows that cannot be used are told before anything is summed
        return joined

    def _reduced(self, name: str, table: Callable[[], ibis.Table]) -> pd.DataFrame:
        """A reduced table as a frame, from the store where it is there."""
        return self._store.fetched(self._engine, name, self._key, table)

    @once
    def account(self) -> dict[str, Any]:
        """How the join balances: per source rows and measures read = used + set aside; the share matched; notes with a code."""
        from nibbet.core.missing import missing_evidence
        from nibbet.core.notes import notes, unmatched

        joined, account, own = self._joined, self._joined.account, self.config
        sums = {"clicks": self._page_sums["clicks_all"]}
        visits = pd.DataFrame({"date": pd.to_datetime([]), "sessions": [], "organic": []})
        if (landings := joined.landings) is not None and self._visit_sums is not None:
            found = self._reduced("visit-days", lambda: reductions.visit_days(landings))
            visits = found.assign(date=pd.to_datetime(found["date"]))
            sums["sessions"] = self._visit_sums["sessions_all"]
        grains = {name: one.grain for name, one in joined.files if one.kind == "search"}
        asked = self._of_sums.site.as_of is not None
        pages, recent = self._pages, self.windows.recent
        said = notes(account, joined.as_of, self.days, pages, joined.addresses, visits, recent, grains=grains, asked=asked)
        said += self._doubts_of_flags + self._moved_windows + self._patterns_without_page + self._closed_alone
        more = missing_evidence(
            self._pages,
            joined.given,
            self.windows,
            protects=bool(own.protect.pages),
            needed=own.verdicts.covered_days,
            poor_clicks=own.verdicts.prune_clicks,
        )
        return {**account, "matched": matched(joined.pages, sums), "unmatched": unmatched(self._pages), "notes": said, "missing": more}

    @property
    def addresses(self) -> pd.DataFrame:
        """Every spelling met: spelling, page, reason, sources."""
        return self._joined.addresses

    @once
    def windows(self) -> Windows:
        """The recent, reference and long window."""
        own, joined = self._of_sums.windows, self._joined
        return chosen(joined.covers, joined.first, joined.as_of, recent=own.recent, long=own.long, reference=own.reference)

    @once
    def days(self) -> pd.DataFrame:
        """One row per complete day of the site: date, clicks, impressions."""
        return self._joined.days

    @once
    def scale(self) -> float:
        """What reference sums are multiplied by to equal the recent window in length and mix of weekdays."""
        return weekday_scale(self.days, self.windows.recent, self.windows.reference)

    def say(self, step: str) -> None:
        """Tell what is being done."""
        self._say(step)

    def share(self) -> float | None:
        """How much of what the engine works on right now is done, 0..1; None where that is not known."""
        return self._engines[0].share() if "_engines" in self.__dict__ else None

    def at(self, windows: Windows) -> Analysis:
        """The same analysis with other windows; what was read and the calibration are shared."""
        if windows == self.windows:
            return self
        key = key_of(self._key, windows.as_dict())
        other = Analysis(self._whole, self._root, self._frames, self._store, key, self._say, self.calibration)
        shared = {
            "_engines": self._engines,
            "_joined": self._joined,
            "days": self.days,
            "section_weeks": self.section_weeks,
            "_lives": self._lives,
            "_events": self._events,
            "_page_waves": self._page_waves,
        }
        vars(other).update(shared, windows=windows, query_topics=self.query_topics)
        return other

    @once
    def query_topics(self) -> pd.Series:
        """The topic of every query that has one, by its text."""
        return self._grouping.grouped.set_index("query")["topic"]

    @property
    def known_pages(self) -> pd.DataFrame:
        """page (address), path, section of every page, by its number."""
        return self._joined.pages

    @once
    def _section_days(self) -> pd.DataFrame:
        days = self._reduced("section-days", lambda: reductions.section_days(self._joined.search, self._addresses))
        return days.assign(date=pd.to_datetime(days["date"])).sort_values(["section", "date"], ignore_index=True)

    @once
    def section_weeks(self) -> pd.DataFrame:
        """One row per section and whole week up to the last complete day: section, end, clicks."""
        days = self._section_days
        end = pd.Timestamp(self._joined.as_of)
        age = (end - days["date"]).dt.days // 7
        whole = (end - pd.Timestamp(self.windows.first)).days + 1
        weeks = days.assign(end=end - pd.to_timedelta(age * 7, unit="D"))[(age >= 0) & (age < whole // 7)]
        found: pd.DataFrame = weeks.groupby(["section", "end"], as_index=False)["clicks"].sum()
        return found

    # -- measures ------------------------------------------------------------------------------------------------------------------------

    @once
    def _is_paired(self) -> bool:
        return any(one.grain == "pair" for _, one in self._joined.files if one.kind == "search")

    def _has_grain(self, grain: str) -> bool:
        return any(one.grain == grain for _, one in self._joined.files if one.kind == "search")

    @property
    def _subject(self) -> str:
        """What rows of search are about: pair where they name queries of pages, else page."""
        return "pair" if self._is_paired else "page"

    @property
    def _teaching(self) -> str:
        """Which rows the CTR curve is learnt from: queries of pages, else totals of pages, else totals of queries."""
        return "pair" if self._is_paired else "page" if self._has_grain("page") else "query"

    @once
    def _lone_queries(self) -> pd.DataFrame:
        """Totals of queries where no rows tell their pages: query, brand, and the sums of `core.reduce.pair_sums`; by impressions."""
        names = ["query", "brand", "clicks", "impressions", "position_sum", "placed", "expected_clicks"]
        if self._is_paired or not self._has_grain("query"):
            none = pd.DataFrame({name: pd.Series(dtype="float64") for name in names})
            return none.astype({"query": "str", "brand": "bool"}).assign(position=np.nan)
        rates = self._rates
        self._say("summing queries")
        rows = self._reduced("lone-queries", lambda: reductions.pair_sums(self._joined.search, self.windows, rates, of="query"))
        rows = rows[rows["impressions"] > 0].sort_values(["impressions", "query"], ascending=[False, True], ignore_index=True)[names]
        rows = rows.astype({"query": "str"}).assign(brand=rows["brand"].eq(True))
        return rows.assign(position=weighted_position(rows["position_sum"], rows["placed"]))

    @property
    def _every(self) -> int:
        """One page in so many teaches the CTR curve."""
        rows = sum(one["rows_used"] for one in self._joined.account["sources"] if one["kind"] == "search")
        return int(max(1, min(rows // CURVE_ROWS, len(self._joined.pages) // CURVE_PAGES)))

    @once
    def _curve_rows(self) -> ibis.Table:
        """What the CTR curve is learnt from, summed."""

        def make() -> ibis.Table:
            return reductions.curve_rows(self._joined.search, self.windows, of=self._teaching, every=self._every)

        return self._store.table(self._engine, "curve-rows", self._key, make)

    @once
    def curve(self) -> Curve:
        """The site's own CTR curve, learnt from the long window."""
        if self._given is not None:
            return self._given.curve
        self._say("learning the CTR curve")
        cells = self._reduced("curve", lambda: reductions.curve_cells(self._curve_rows))
        kinds = [cells[name].astype("category").cat.codes.to_numpy() for name in SEGMENT]
        order = np.lexsort([cells["page"].to_numpy(), cells["bin"].to_numpy(), *kinds])  # the engine keeps no order
        return learn_curve(cells.iloc[order].reset_index(drop=True))

    @once
    def _spelt_pairs(self) -> ibis.Table:
        """The sums of pages and queries, with what the curve expects; passing, for what lasts has numbers for queries."""
        rates = self._rates
        self._say("summing pages and queries")
        return self._engine.keep(reductions.pair_sums(self._joined.search, self.windows, rates, of=self._subject))

    @property
    def _asked(self) -> ibis.Table:
        """query, query_id: all queries of the pairs and of the editors, numbered by alphabet."""
        return self._store.table(self._engine, "asked", self._key, lambda: reductions.numbered(self._spelt_pairs, self._target_queries))

    def _numbered_pairs(self) -> ibis.Table:
        spelt_pairs = self._spelt_pairs
        self._say("numbering queries")
        return reductions.coded(spelt_pairs, self._asked)

    @property
    def _target_queries(self) -> ibis.Table | None:
        targets = self._targets
        return None if targets is None or targets.empty else self._engine.frame(targets[["query"]].astype("str"))

    @once
    def _different(self) -> set[str]:
        """The ways to split search rows in which they differ."""
        rows = self._joined.table("search")
        assert rows is not None, "there is always search"

        def make() -> ibis.Table:
            return rows.aggregate(**{name: (rows[name].min() != rows[name].max()).fill_null(False) for name in DIMENSIONS})

        found = self._reduced("differing", make).iloc[0]
        return {name for name in DIMENSIONS if found[name]}

    def differs(self, dimension: str) -> bool:
        """Whether rows name more than one device, country or surface."""
        return dimension in self._different

    @once
    def countries(self) -> pd.DataFrame:
        """How much more or less searchers of a country choose at the same place: only countries that differ."""
        if self._given is not None:
            return self._given.countries
        if not self.differs("country"):
            return pd.DataFrame(columns=["country", "level", "clicks", "expected"])
        cells = self._reduced("country-cells", lambda: reductions.country_cells(self._curve_rows))
        return country_levels(cells.sort_values([*SEGMENT, "bin", "country"]), self.curve.rates)

    @property
    def _rates(self) -> reductions.Rates:
        """The CTR curve in the engine."""
        rates = self.curve.rates[[*SEGMENT, "bin", "rate", "slope"]]
        kinds = {"device": "str", "surface": "str", "brand": "bool", "bin": "int32", "rate": "float64", "slope": "float64"}
        levels = self.countries[["country", "level"]]
        countries = self._engine.frame(levels.astype({"country": "str", "level": "float64"})) if len(levels) else None
        return reductions.Rates(self._engine.frame(rates.astype(kinds)), countries)

    @property
    def page_sums(self) -> pd.DataFrame:
        """Sums of pages per window, by number."""
        return self._page_sums

    @property
    def pair_sums(self) -> pd.DataFrame:
        """Sums of (page, query) in the recent and reference windows, not scaled; without queries, one row a page with an empty one."""
        return self._expected

    def split_sums(self, dimension: str) -> pd.DataFrame:
        """Sums of pages by device, country or surface: page_id, value, and both windows."""
        return self._reduced(f"split-{dimension}", lambda: reductions.splits(self._joined.search, self.windows, dimension))

    def visit_sums_by(self, by: str) -> pd.DataFrame | None:
        """Visits of both windows by page_id or channel; None where landings do not cover both."""
        if (landings := self._joined.landings) is None or len(self.windows.visits_in) < 2:
            return None
        sums = self._reduced(f"visits-{by}", lambda: reductions.visit_windows(landings, self.windows, by))
        return sums.astype({name: "float64" for name in sums if name != by})

    @once
    def _expected(self) -> pd.DataFrame:
        """One row per (page, query) of the recent or reference window: sums of both, expected clicks, positions, days."""
        pairs = self._reduced("pairs", self._numbered_pairs)
        asked = self._reduced("asked", lambda: self._asked)
        if not asked["query_id"].is_monotonic_increasing:  # some engines keep no order
            asked = asked.sort_values("query_id")
        texts = pd.Index(asked["query"].astype("str"))
        pairs["query"] = pd.Categorical.from_codes(pairs.pop("query_id").to_numpy(), dtype=pd.CategoricalDtype(texts))
        seen = [name for name in map(str, pairs) if name.startswith("seen_")]
        days = sum((np.bitwise_count(pairs[name].to_numpy(np.int64)).astype(np.int64) for name in seen), np.zeros(len(pairs), np.int64))
        pairs = pairs.drop(columns=seen).assign(days=days)
        for suffix in ("", "_reference"):
            pairs[f"position{suffix}"] = weighted_position(pairs[f"position_sum{suffix}"], pairs[f"placed{suffix}"])
        if (demand := self._demand_rows) is not None:
            told = searched(demand, self.windows).set_index("query")
            number = told.index.get_indexer(texts)[pairs["query"].cat.codes]
            for name in told:
                pairs[name] = np.where(number >= 0, told[name].to_numpy(float)[number], np.nan)
        return pairs

    @once
    def sight(self) -> Sight:
        """How far this site's searchers look, learnt from pairs that moved between the windows."""
        return self._given.sight if self._given is not None else learn_sight(self._expected)

    @property
    def calibration(self) -> Calibration:
        """The curve, the levels of countries and the sight."""
        return Calibration(self.curve, self.countries, self.sight)

    @once
    def _mapped(self) -> pd.DataFrame:
        """The pairs of the recent or reference window with answer, role and pull, by page, impressions and query."""
        pairs, pages = self._expected, self._pages
        if (unnamed := pairs["query"] == "").any():
            pairs = pairs[~unnamed]
        self._say("mapping queries to pages")
        own = self.config
        lexicon, on_page = self._words_of_pages
        pairs = add_answer(pairs, pages, brand=own.site.brand, language=own.site.language, lexicon=lexicon, on_page=on_page)
        pairs = add_roles(pairs, pages["page"], own.verdicts, self._targets, self._dead)
        pairs["brand"] = pairs["brand"].eq(True)
        pairs["pull"] = shrunk_pull(pairs["clicks"].to_numpy(float), pairs["expected_clicks"].to_numpy(float))
        return pairs

    @once
    def _grouping(self) -> Grouping:
        """The queries in topics."""
        pairs, own, first = self._mapped, self.config, self.snapshots
        self._say("grouping queries into topics")
        if first is not None:
            first = first[(first["kind"] == "result") & first["url"].notna() & (first["rank"].fillna(1) <= 10)]
        return group_pairs(
            pairs,
            len(self._pages),
            self._demand_of_queries,
            first,
            brand=own.site.brand,
            aside=own.topics.aside,
            most=own.topics.most,
            language=own.site.language,
            lexicon=self._words_of_pages[0],
            translate=own.topics.translate,
            lone=self._lone_queries,
            on_page=self._words_of_pages[1],
        )

    @once
    def _pairs(self) -> pd.DataFrame:
        """The query map: one row per (page, query) of the recent or reference window, with topics, by page and impressions."""
        return self._mapped.assign(topic=self._grouping.topic)

    @once
    def _demand_rows(self) -> pd.DataFrame | None:
        """The rows of the source of demand, queries as search rows spell them; None without one."""
        if (table := self._joined.table("demand")) is None:
            return None
        rows = self._engine.fetch(table.filter(table.aside.isnull())).dropna(subset=["query"])
        return rows.assign(query=as_typed(rows["query"]))

    @once
    def _demand_of_queries(self) -> pd.DataFrame | None:
        """query, demand: searches in a month, of the last twelve that are told; null without a source of demand."""
        if (rows := self._demand_rows) is None:
            return None
        rows = rows.dropna(subset=["volume"])
        month = pd.to_datetime(rows["month"])
        rows = rows[month.isna() | (month > month.max() - pd.DateOffset(months=12))]
        found: pd.DataFrame = rows.groupby("query", as_index=False)[["volume"]].mean()
        return found.rename(columns={"volume": "demand"}).astype({"query": "str"})

    @once
    def snapshots(self) -> pd.DataFrame | None:
        """Rows of the newest result snapshot of each query: query, rank, url, title, kind; None without results."""
        if (table := self._joined.table("results")) is None:
            return None
        rows = self._engine.fetch(table.filter(table.aside.isnull())).dropna(subset=["query"])
        rows["query"] = as_typed(rows["query"])
        newest = rows.groupby("query")["date"].transform("max")
        rows = rows[rows["date"].isna() | (rows["date"] == newest)]
        kind = rows["kind"].fillna("result").str.lower() if "kind" in rows else pd.Series("result", index=rows.index)
        rows = rows.assign(kind=np.where(kind.str.contains("question|frage|ask"), "question", "result"))
        return rows.sort_values(["query", "kind", "rank", "url", "title"], ignore_index=True)

    @once
    def _topic_table(self) -> pd.DataFrame:
        pairs, strays, lone = self._pairs, self._strays, self._lone_queries
        asked = self._grouping.grouped
        if len(lone):
            pairs = pd.concat(
                [pairs.assign(query=spelt(pairs["query"]), topic=spelt(pairs["topic"])), self._lone_in_topics], ignore_index=True
            )
        unseen = asked[(asked["impressions"] == 0) & (asked["demand"] > 0)]
        if len(unseen):  # searched, and the site is not shown for it
            days = self.windows.recent.days
            demand = unseen["demand"].to_numpy(float) * days / MONTH_DAYS
            gains = self.standing.gains(demand, np.zeros(len(unseen)), np.full(len(unseen), 100.0), self.curve, days)
            strays = pd.concat([strays, unseen[["query", "topic"]].assign(kind="stray", **gains)], ignore_index=True)
        return topic_table(
            pairs,
            strays,
            asked,
            self.known_pages["path"],
            self.windows.recent,
            languages=self._languages_of_pages,
            strength=self._strength_of_pages,
            worth=self._worth_of_visits,
            peaks=self._topic_peaks,
            least=self.config.verdicts.min_gain,
            pages_known=self._is_paired,
            dead=self._dead,
        )

    @property
    def _lone_in_topics(self) -> pd.DataFrame:
        """Totals of queries as rows of the query map without a page, a role or an answer."""
        rows = self._lone_queries
        topic = self._grouping.grouped.set_index("query")["topic"]
        unknown = {"page": np.nan, "role": None, "answer": np.nan, "days": np.nan}
        pull = shrunk_pull(rows["clicks"].to_numpy(float), rows["expected_clicks"].to_numpy(float))
        return rows.assign(topic=rows["query"].map(topic), pull=pull, share_clicks=np.nan, share_impressions=np.nan, **unknown)

    @once
    def _languages_of_pages(self) -> pd.Series:
        """The ISO code of each page's language, as the crawl tells it; null where it does not."""
        return self._pages["language"].astype("str").str.lower().str.extract(r"^([a-z]{2})(?![a-z])", expand=False)

    @property
    def _topic_peaks(self) -> pd.Series:
        """By topic, the next peak of its season, where a year of searches tells it."""
        if (rows := self._demand_rows) is None:
            return pd.Series(dtype="datetime64[ns]", index=pd.Index([], dtype="str"))
        return topic_peaks(rows, self._grouping.grouped, self.windows.as_of)

    @once
    def _strengths(self) -> pd.DataFrame:
        pages = self._measured
        kinds = pd.DataFrame({"level": "kind", "key": self._told_kinds, "page": pages.index}).dropna(subset=["key"])
        sizes = pd.DataFrame({"level": "length", "key": lengths(pages["words"]), "page": pages.index}).dropna(subset=["key"])
        told = pd.DataFrame({"level": "title", "key": formats(pages["title"]), "page": pages.index}).dropna(subset=["key"])
        members = pd.concat([self._members, kinds, sizes, told], ignore_index=True)
        asked = self._demand_of_queries
        demand = None if asked is None else asked.set_index("query")["demand"]
        return strengths(pages, self._mapped, demand, members, self.windows.recent.days)

    @property
    def _strength_of_pages(self) -> pd.Series:
        """How the section of each page does in clicks per search beside the rest of the site."""
        rows = self._strengths
        section = rows[rows["level"] == "section"].set_index("key")["strength"]
        return self.known_pages["section"].map(section)

    def strengths(self) -> pd.DataFrame:
        """What sections, named groups, kinds and lengths of pages earn per page and per search."""
        return self._strengths

    def topics(self) -> pd.DataFrame:
        """Topics: what the site answers, what it draws by accident, and what to write: see `core.topics.TOPICS`."""
        return self._topic_table.assign(page=self._topic_table["page"].map(self.known_pages["page"]))

    def check_ideas(self, ideas: pd.Series) -> pd.DataFrame:
        """Ideas held against what the site has: see `core.ideas.check_ideas`."""
        return check_ideas(ideas, self._grouping, self.topics(), language=self.config.site.language)

    def between(self, one: str, other: str) -> dict[str, Any]:
        """Whether two queries need one page or two: see `core.ideas.between`."""
        return between(one, other, self._grouping, self.snapshots, language=self.config.site.language)

    @once
    def _placed_queries(self) -> pd.DataFrame:
        """The queries in topics with the position at which the site stands for them."""
        number, texts = numbered(self._mapped)
        sums, placed = (np.bincount(number, self._mapped[name].to_numpy(float), len(texts)) for name in ("position_sum", "placed"))
        place = np.append(np.divide(sums, placed, out=np.full(len(texts), np.nan), where=placed > 0), np.nan)
        asked = self._grouping.grouped
        lone = asked["query"].map(self._lone_queries.set_index("query")["position"])
        return asked.assign(position=pd.Series(place[pd.Index(texts).get_indexer(asked["query"])], index=asked.index).fillna(lone))

    @once
    def _neighbours(self) -> Neighbours:
        leaves = self._decided[0]["verdict"].isin(["prune", "consolidate"])
        return Neighbours(self.topics(), self._measured.assign(leaves=leaves), self.config.site.language)

    def brief(self, topic: str) -> Brief:
        """What an author needs to write on a topic, by its label or any of its queries. Raises NotFoundError."""
        topics, asked = self.topics(), self._placed_queries
        wanted = as_typed(pd.Series([topic])).iloc[0]
        label = asked.loc[asked["query"] == wanted, "topic"]
        if label.empty:
            raise NotFoundError(f'No topic has the query "{wanted}". See: nibbet topics')
        return make_brief(topics[topics["topic"] == label.iloc[0]].iloc[0], asked, self.snapshots, self._neighbours)

    def topics_aside(self) -> pd.DataFrame:
        """Queries that belong to no topic, by reason: reason, queries, impressions."""
        rows = self._grouping.queries.dropna(subset=["aside"])
        table = rows.groupby("aside", observed=True).agg(queries=("query", "size"), impressions=("impressions", "sum"))
        return table.rename_axis("reason").reset_index().astype({"reason": "str"}).sort_values("reason", ignore_index=True)

    @once
    def _words_of_pages(self) -> tuple[Lexicon, csr_matrix]:
        """The words that stand on each page; the rows are numbered as pages are."""
        lexicon, pages = Lexicon(self.config.site.language), self._pages
        inventory = self._joined.inventory
        if inventory is not None and inventory["text"].notna().any():
            pages = pages.assign(text=inventory["text"].reindex(pages.index))
        return lexicon, page_words(pages, lexicon, self._anchors)

    @property
    def _anchors(self) -> pd.DataFrame:
        """page (number), anchor: the texts of links that lead to each page, from its own site and from others."""
        parts = [pd.DataFrame({"page": pd.Series(dtype="int64"), "anchor": pd.Series(dtype="str")})]
        if (links := self._joined.table("links")) is not None:
            parts.append(self._reduced("anchors", lambda: reductions.link_anchors(links)))
        if (outside := self._joined.few("backlinks")) is not None:
            rows = outside[outside["aside"].isna() & outside["page_id"].notna()]
            parts.append(rows[["page_id", "anchor"]].rename(columns={"page_id": "page"}).dropna())
        found = pd.concat(parts, ignore_index=True).astype({"page": "int64", "anchor": "str"})
        return found.drop_duplicates().sort_values(["page", "anchor"], ignore_index=True)

    @once
    def _targets(self) -> pd.DataFrame | None:
        rows = self._joined.few("editorial")
        if rows is None:
            return None
        named = rows.dropna(subset=["page_id", "target_query"])
        query = as_typed(named["target_query"])
        return pd.DataFrame({"page": named["page_id"].astype("int64"), "query": query}).sort_values(["query", "page"])

    @once
    def _page_sums(self) -> pd.DataFrame:
        self._say("summing pages")
        return self._reduced("pages", lambda: reductions.page_sums(self._joined.search, self.windows)).set_index("page_id")

    @once
    def _visit_sums(self) -> pd.DataFrame | None:
        if (landings := self._joined.landings) is None:
            return None
        sums = self._reduced("visits", lambda: reductions.visit_sums(landings, self.windows))
        return sums.set_index("page_id").astype(float, errors="ignore")

    @once
    def _pages(self) -> pd.DataFrame:
        """The ledger without what needs the query map."""
        own, joined = self.config, self._joined
        search, visits = self._page_sums, self._visit_sums
        self._say("measuring pages")
        table = ledger(
            joined.pages,
            search,
            visits,
            None if joined.inventory is None else with_sound_flags(joined.inventory, search)[0],
            joined.few("editorial"),
            joined.few("backlinks"),
            windows=self.windows,
            scale=self.scale,
            protected=own.protect.pages,
            purposes=own.purpose.model_dump(),
        )
        table = with_others(
            table,
            home=joined.home.root,
            sitemap=joined.few("sitemap"),
            robots=self._robots,
            hits=self._hits,
            links=self._links,
            agents=own.site.search_agents,
            as_of=pd.Timestamp(self.windows.as_of),
        )
        return with_ways(table, self._rare_links, own.verdicts.prune_clicks)

    @property
    def _moved_windows(self) -> list[dict[str, str]]:
        """A note where the windows are not as long as the settings ask, for the rows do not allow it."""
        w, asked_days = self.windows, self.config.windows.recent or RECENT_DAYS
        if w.recent.days == asked_days and not w.recent.spans:
            return []
        why = "rows without days serve whole periods" if w.recent.spans else "the data have no days to cut otherwise"
        against = f", held against {w.reference}" if w.reference_known else ", with no earlier window to hold it against"
        return [{"code": "windows_moved", "text": f"The recent window is {w.recent} ({w.recent.days} days){against}: {why}."}]

    @once
    def _robots(self) -> pd.DataFrame | None:
        """The rules of robots.txt: agent, rule, pattern; None where it is not given."""
        rules = self._joined.table("robots")
        return None if rules is None else self._engine.fetch(rules)

    @property
    def _closed_alone(self) -> list[dict[str, str]]:
        """A note where robots.txt closes pages to some agent alone, which may be a search engine's."""
        if self._robots is None or self.config.site.search_agents:
            return []
        found = closed_alone(self.known_pages["path"], self._robots)
        text = 'robots.txt closes {:,} pages to "{}" alone; they count as open. If that is a search engine\'s, add: [site] search_agents = ["{}"]'
        return [{"code": "closed_alone", "text": text.format(count, agent, agent)} for agent, count in found.items()]

    @property
    def _patterns_without_page(self) -> list[dict[str, str]]:
        """A note where a pattern of the settings fits no page: what it was meant to protect stands under another address."""
        own = self.config
        tables = {"[protect] pages": own.protect.pages, **{f"[purpose] {name}": given for name, given in own.purpose.model_dump().items()}}
        text = '{}: {} fits no page of this site. Patterns are paths, as "/legal/*": look up the address in pages.csv.'
        return [
            {"code": "pattern_without_page", "text": text.format(table, " and ".join(f'"{one}"' for one in lost))}
            for table, given in tables.items()
            if (lost := without_page(self.known_pages["path"], given))
        ]

    @property
    def _doubts_of_flags(self) -> list[dict[str, str]]:
        """A note where the crawl keeps most pages that search shows out of the index: such a column is read the wrong way round."""
        inventory = self._joined.inventory
        share = 0.0 if inventory is None else with_sound_flags(inventory, self._page_sums)[1]
        if not share:
            return []
        text = (
            f"The crawl marks {share:.0%} of the pages that search shows as kept out of the index, which cannot be: the column is not used. "
            'If a yes in it means the opposite of what its header says, add to its [[source]]: reverse = ["noindex"]'
        )
        return [{"code": "flag_contradicts", "text": text}]

    @property
    def _hits(self) -> pd.DataFrame | None:
        """hits of people and the first day of them, by page number; None without a server's log."""
        if (hits := self._joined.table("hits")) is None:
            return None
        return self._reduced("hit-sums", lambda: reductions.hit_sums(hits, self.windows)).set_index("page_id")

    @property
    def _links(self) -> pd.Series | None:
        """By page number, from how many pages of the site links lead to it; None without links."""
        if (links := self._joined.table("links")) is None:
            return None
        return self._reduced("link-sums", lambda: reductions.link_sums(links)).set_index("target_id")["links"]

    @property
    def _dead(self) -> pd.Series:
        """Of each page, whether it fails or is kept out of the index."""
        return (self._pages["status"] >= 400).fillna(False).astype(bool) | self._pages["blocked"]

    @property
    def _rare_links(self) -> pd.DataFrame | None:
        """source_id, target_id of links to pages that at most two pages link to; None without links."""
        if (links := self._joined.table("links")) is None:
            return None
        rows = self._reduced("rare-links", lambda: reductions.rare_links(links))
        return rows.sort_values(["target_id", "source_id"], ignore_index=True)

    @once
    def _lives(self) -> pd.DataFrame:
        """Of each page what tells whether it came or went, in whatever windows: see `core.access.access_of`."""
        names = "page born impressions_long gone blocked robots_blocked redirects_to status".split()
        return self._pages[names].assign(index_state=self._kept_from_index)

    @property
    def _kept_from_index(self) -> pd.Series:
        """Of each page, the state in which the index does not hold it, as the crawl says it; null where it does or nothing tells."""
        inventory, pages = self._joined.inventory, self.known_pages
        if inventory is None or "index_state" not in inventory:
            return pd.Series(None, index=pages.index, dtype="object")
        told = inventory["index_state"].reindex(pages.index)
        return told.where(told.notna() & out_of_index(told))

    @property
    def access(self) -> pd.Series:
        """Of each page, how it came or went between the windows: new, gone, moved, blocked or empty."""
        return self._came["access"]

    @once
    def _came(self) -> pd.DataFrame:
        """access and lived of each page: see `core.access.access_of`."""
        sums, w = self._page_sums.reindex(self._lives.index), self.windows
        table = self._lives.assign(
            clicks=sums["clicks_recent"].fillna(0),
            base=sums["clicks_reference"].fillna(0) * self.scale,
            clicks_last28=sums["clicks_last28"].fillna(0),
            impressions=sums["impressions_recent"].fillna(0),
            impressions_reference=sums["impressions_reference"].fillna(0),
            first_seen=pd.to_datetime(sums["first_seen"]),
            reference_known=w.reference_known and w.reference.start >= w.first,
        )
        return access_of(table, w)

    @once
    def annual(self) -> Annual:
        """The annual wave of each section."""
        return annual_index(self.section_weeks)

    @once
    def season(self) -> pd.Series:
        """Per page, the factor that the season alone gives between the windows: its section's or its own, and what it did a year earlier where
        the data reach so far; 1 against a year before.
        """
        w, section = self.windows, self.known_pages["section"]
        if w.reference_kind == "year":
            return pd.Series(1.0, index=section.index)
        waves = self._page_waves[0].ratio(w.recent, w.reference).reindex(section.index)
        factor = np.asarray(waves.fillna(section.map(self.annual.ratio(w.recent, w.reference))).fillna(1.0), dtype=np.float64)
        if (earlier := year_earlier(w)) is not None:
            key = key_of(self._key, earlier.as_dict())
            found = self._store.fetched(self._engine, "pages", key, lambda: reductions.page_sums(self._joined.search, earlier))
            sums = found.set_index("page_id").reindex(section.index)
            last = pd.DataFrame({"recent": sums["clicks_recent"], "reference": sums["clicks_reference"]}).fillna(0)
            factor = own_season(last, factor, weekday_scale(self.days, earlier.recent, earlier.reference))
        return pd.Series(factor, index=section.index)

    @once
    def terms(self) -> Terms:
        """What changes at every level are held against."""
        return Terms(self.scale, self.config.verdicts.real_change, shared_noise(self.days, self.windows), self.sight)

    @once
    def noise(self) -> pd.Series:
        """Per page, its own noise between the windows: see `core.compare.page_noise`."""
        recent, reference = (self.page_counts[name].to_numpy(np.float64) for name in ("recent", "reference"))
        weeks = self._weeks_of_windows if self.windows.is_daily else ()
        noise = page_noise(recent, reference, self.scale, self.season.to_numpy(np.float64), weeks)
        return pd.Series(noise, index=self.known_pages.index)

    @property
    def _weeks_of_windows(self) -> tuple[np.ndarray, np.ndarray]:
        """Pages x whole weeks inside the recent and the reference window: clicks."""
        w, as_of = self.windows, self.windows.as_of
        every = np.arange(len(self.known_pages))

        def inside(window: Window) -> np.ndarray:
            # weeks are counted back from the last complete day
            return self._week_table(every, -((window.end - as_of).days // 7), ((as_of - window.start).days + 1) // 7)

        return inside(w.recent), inside(w.reference)

    def _week_table(self, pages: np.ndarray, newest: int, until: int) -> np.ndarray:
        """Clicks of pages (by number) by whole weeks, oldest first: weeks from `newest` back to the one before `until`, counted
        back from the one that ends with the last complete day (0).
        """
        rows = self._reduced("weeks-back", lambda: reductions.weeks_back(self._joined.search, self.windows.as_of))
        table = np.zeros((len(pages), max(until - newest, 0)), dtype=np.int32)
        row = pd.Index(pages).get_indexer(rows["page_id"])
        inside = (row >= 0) & rows["back"].between(newest, until - 1).to_numpy()
        table[row[inside], until - 1 - rows["back"].to_numpy()[inside]] = rows["clicks"].to_numpy()[inside]
        return table

    @property
    def _weeks_back(self) -> pd.DatetimeIndex:
        """The last days of all whole weeks of the data, oldest first."""
        first, last = pd.Timestamp(self.windows.first), pd.Timestamp(self.windows.as_of)
        count = ((last - first).days + 1) // 7
        return pd.DatetimeIndex(last - pd.to_timedelta(np.arange(count - 1, -1, -1) * 7, unit="D"))

    @once
    def page_changes(self) -> pd.DataFrame:
        """The change of every page, keyed by its number in order: the columns CHANGES."""
        rows, w = self.page_counts, self.windows
        known = np.full(len(rows), w.reference_known and w.reference.start >= w.first)
        noise, season = self.noise.to_numpy(float), self.season.to_numpy(float)
        return compared(rows, "page", self.terms, noise=noise, season=season, known=known)

    @property
    def page_counts(self) -> pd.DataFrame:
        """key (page number, in order), recent and reference (clicks), impressions and impressions_reference of every page; not scaled."""
        sums = self._page_sums.reindex(self.known_pages.index).fillna(0)
        names = {"recent": "clicks_recent", "reference": "clicks_reference", "impressions": "impressions_recent"}
        counts = {mine: sums[name].to_numpy() for mine, name in names.items()}
        return pd.DataFrame({"key": sums.index, **counts, "impressions_reference": sums["impressions_reference"].to_numpy()})

    @once
    def row_parts(self) -> pd.DataFrame:
        """Of every row of `pair_sums`, what its change owes to demand, rank and access: see `core.split.row_parts`."""
        pairs, w = scaled_pairs(self._expected, self.scale), self.windows
        over = self._events["event_to"]
        ended = over.index[(over < pd.Timestamp(w.recent.start)) & (over >= pd.Timestamp(w.reference.start))]
        pages = {
            "section": pd.factorize(self.known_pages["section"])[0],
            "came": self.access.ne("").to_numpy(),
            "lived": self._came["lived"].to_numpy(),
            "event": self.known_pages.index.isin(ended),
        }
        number = pairs["page"].to_numpy()  # pages are numbered from 0
        return row_parts(pairs.assign(**{name: values[number] for name, values in pages.items()}), self.sight)

    @once
    def _events(self) -> pd.DataFrame:
        """event_from, event_to, event_share of the pages that owe nearly all to an event that is over."""
        names = ["event_from", "event_to", "event_share"]
        return self.trends.loc[self.trends["event_to"].notna(), names]

    @once
    def _change_parts(self) -> pd.DataFrame:
        """The change of each page and its parts: see `core.ledger.parts_of_change`."""
        names = ["change", "change_share", "change_low", "change_high", "real"]
        changes = self.page_changes.set_index("key")[names].rename(columns={"real": "change_real"})
        pages = self._pages.assign(access=self.access)
        parts = parts_of_change(pages, self._expected, self.row_parts).rename(columns={"access": "access_part"})
        return parts.join(changes).assign(access=pages["access"], noise=np.hypot(self.noise, self.terms.noise))

    @once
    def _measured(self) -> pd.DataFrame:
        table = with_pull(self._pages.copy(), self._pairs, self.config.verdicts.answers)
        if not self._is_paired:
            table = judged_as_one(table, self._pages_as_pairs)
        table = table.assign(**{str(name): part for name, part in self._change_parts.items()})
        found = self.trends[self.trends["real"]]
        table["trend"] = found["kind"].reindex(table.index)
        table["since"] = pd.to_datetime(found["since"].reindex(table.index))
        table = table.join(self._events)
        targets = self._targets
        named = targets.drop_duplicates("page").set_index("page")["query"].reindex(table.index) if targets is not None else None
        asked = asked_in(self._pairs, self._grouping.queries).reindex(table.index)
        table["asked_in"] = asked.where(asked != self._languages_of_pages)
        table["intended"] = subject_of(table) if named is None else named.where(named.notna(), subject_of(table))
        return table

    @property
    def _pages_as_pairs(self) -> pd.DataFrame:
        """The totals of pages as if one query that they answer made each; the home page, which is asked for by name, aside."""
        rows = self._expected
        home = self._pages["path"].eq("/").reindex(rows["page"]).to_numpy()
        return rows.assign(role="owner", answer=1.0, brand=home, topic=pd.Series(None, index=rows.index, dtype="str"))

    @once
    def _openings(self) -> pd.DataFrame:
        t, pairs = self.config.verdicts, self._pairs if self._is_paired else self._pages_as_pairs
        return find_openings(
            pairs, self.curve, self.sight, self.windows.recent.days, t, standing=self.standing, lexicon=self._words_of_pages[0]
        )

    @once
    def standing(self) -> Standing:
        """Where this site's good pages stand."""
        return learn_standing(self._measured, below=self.config.verdicts.climb_position[0])

    @once
    def trends(self) -> pd.DataFrame:
        """What the weeks of every page tell, by page number: see `core.decline.trends`; pages with too few clicks to tell are left out."""
        shown, clicks, ends = self._weeks
        self._say("looking for lasting changes")
        first, last = pd.Timestamp(self.windows.first), pd.Timestamp(self.windows.as_of)
        seen = pd.to_datetime(self._page_sums["first_seen"].reindex(shown))
        late = (seen - first).dt.days.fillna(0).to_numpy()
        offset = ((last - first).days + 1) % 7
        began = np.where(late > NEW_DAYS, np.maximum(late - offset, 0) // 7, 0).astype(np.int64)
        section = pd.factorize(self.known_pages["section"].reindex(shown), sort=True)[0].astype(np.int64)
        return changes_of_level(clicks, section, began, ends).set_axis(shown)

    @once
    def _weeks(self) -> tuple[np.ndarray, np.ndarray, pd.DatetimeIndex]:
        """Numbers of the pages with enough clicks to tell anything, their clicks by whole weeks up to the last complete day, the ends of these."""
        ends = self._weeks_back
        rows = self._reduced("weeks-back", lambda: reductions.weeks_back(self._joined.search, self.windows.as_of))
        total = rows[rows["back"] < len(ends)].groupby("page_id")["clicks"].sum()
        shown = np.sort(total[total >= LEAST_EXPECTED].index.to_numpy())
        return shown, self._week_table(shown, 0, len(ends)), ends

    def weekly(self, pages: list[str]) -> pd.DataFrame:
        """Clicks of whole weeks up to the last complete day: a row per page (by address), a column per week, named by its last day."""
        number = pd.Series(self.known_pages.index, index=self.known_pages["page"]).reindex(pages)
        known, ends = np.flatnonzero(number.notna()), self._weeks_back
        clicks = np.zeros((len(pages), len(ends)), dtype=np.int64)
        clicks[known] = self._week_table(number.iloc[known].to_numpy(np.int64), 0, len(ends))
        return pd.DataFrame(clicks, index=pd.Index(pages, name="page"), columns=ends.strftime("%Y-%m-%d"))

    @once
    def _members(self) -> pd.DataFrame:
        """level, key, page: which pages make a section or a named group."""
        pages = self.known_pages
        sections = pd.DataFrame({"level": "section", "key": pages["section"], "page": pages.index})
        groups = pages_in_groups(pages["path"], self.config.groups.pages).rename(columns={"group": "key"}).assign(level="group")
        return pd.concat([sections, groups], ignore_index=True)

    @once
    def _plain_pages(self) -> pd.DataFrame:
        """The ledger with clicks_plain and expected_plain: sums over the queries without the brand."""
        summed, rows = ["clicks", "expected_clicks", "position_sum", "placed"], self._expected
        if self._is_paired:
            rows = rows_at(self._pairs, ~self._pairs["brand"], ["page", *summed])
        sums = rows.groupby("page")[summed].sum().reindex(self._pages.index).fillna(0.0)
        plain = {"clicks_plain": sums["clicks"], "expected_plain": sums["expected_clicks"]}
        return self._pages.assign(**plain, position_plain=weighted_position(sums["position_sum"], sums["placed"]))

    def peers(self) -> pd.DataFrame:
        """Members of sections and groups that fall below or rise above their rates."""
        found = beside_peers(self._plain_pages, self._members)
        return found.assign(page=found["page"].map(self.known_pages["page"]))

    def parts(self) -> pd.DataFrame:
        """Sums and rates of the site, its sections and named groups."""
        return rates_of_parts(self._plain_pages, self._members)

    def segments(self) -> pd.DataFrame:
        """Pages that do well in one country, device or surface and badly in another."""
        rows, visits = [], []
        landings = self._joined.landings
        self._say("comparing segments")
        for one in filter(self.differs, DIMENSIONS):
            sums = self._reduced(
                f"segment-{one}",
                lambda one=one: reductions.segment_sums(self._joined.search, self.windows, self._rates, one, of=self._subject),  # type: ignore[misc]
            )
            rows.append(sums.rename(columns={"page_id": "page"}).assign(dimension=one))
            if landings is not None and one in landings.columns and len(sums):
                found = self._reduced(
                    f"visits-page-{one}",
                    lambda one=one: reductions.visit_windows(landings, self.windows, "page_id", one),  # type: ignore[misc]
                )
                found = found.rename(
                    columns={"page_id": "page", one: "value", "sessions_recent": "sessions", "engaged_sessions_recent": "engaged_sessions"}
                )
                visits.append(found[["page", "value", "sessions", "engaged_sessions"]].dropna().assign(dimension=one))
        if not rows:
            return pd.DataFrame(columns=SEGMENTS)
        table = pd.concat(rows, ignore_index=True).sort_values(["dimension", "page", "value"], ignore_index=True)
        table["position"] = weighted_position(table["position_sum"], table["placed"])
        seen = pd.concat(visits, ignore_index=True) if visits else None
        found = odd_segments(table, seen)
        return found.assign(page=found["page"].map(self.known_pages["page"]))

    def pulls(self) -> pd.DataFrame:
        """Pull with interval and flag of pages and pairs, without the brand, those that lose most clicks first."""
        pages = self._plain_pages.reset_index(names="number")
        pages = pd.DataFrame(
            {
                "page": pages["number"],
                "clicks": pages["clicks_plain"],
                "expected_clicks": pages["expected_plain"],
                "position": pages["position_plain"],
            }
        )
        pairs = rows_at(self._pairs, ~self._pairs["brand"], ["page", "query", "clicks", "expected_clicks", "position"])
        found = judged_pulls(pages, pairs)
        return found.assign(page=found["page"].map(self.known_pages["page"]))

    # -- verdicts ------------------------------------------------------------------------------------------------------------------------

    @once
    def _candidates(self) -> tuple[pd.DataFrame, pd.DataFrame]:
        """Pairs of pages that share queries, with turn_taking; and the days of their queries."""
        pages, pairs = self._pages, self._mapped
        self._say("looking for pages to merge")
        candidates = merging.candidate_pairs(pairs, self.config.verdicts, (~pages["gone"] & ~pages["blocked"]).to_numpy())
        enough = candidates["shared"] >= self.config.verdicts.shared_queries
        if not self.windows.has_daily_pairs:  # nothing tells who leads on which day
            none = pd.DataFrame({"query": [], "date": [], "page": [], "impressions": [], "position": []})
            gaps = merging.place_gap(pairs, candidates)
            unknown = candidates.assign(turn_taking=np.nan, contested=np.nan, lead_spread=np.nan, place_gap=gaps)
            return self._likened(unknown), none
        members = np.unique(candidates.loc[enough, ["page_a", "page_b"]].to_numpy()).astype("int64")
        wanted = self._engine.frame(pd.DataFrame({"page_id": members}))
        days = self._engine.fetch(reductions.daily_leaders(self._joined.search, self.windows, wanted)).rename(columns={"page_id": "page"})
        days["query"] = pd.factorize(days["query"])[0]  # only told apart
        known = leads(days, candidates[enough]).reindex(candidates.index)
        return self._likened(candidates.join(known.fillna({"turn_taking": 0.0}))), days

    def _likened(self, candidates: pd.DataFrame) -> pd.DataFrame:
        """The candidates with how far their titles and intents agree, and how likely it is that they answer one search."""
        titles = title_likeness(self._pages, candidates, self._words_of_pages[0], self.config.site.brand)
        chosen = chosen_beside(self._mapped, candidates)
        found = candidates.assign(title_likeness=titles, intent=self._shared_intent(candidates), chosen_beside=chosen)
        enough = found["shared"] >= self.config.verdicts.shared_queries
        return found.assign(one_search=one_search(found[enough]).reindex(found.index))

    def _shared_intent(self, candidates: pd.DataFrame) -> pd.Series:
        """How far the pages of each pair are chosen for the same intents, by the results of their queries; null where no results are known."""
        grouping = self._grouping
        if grouping.results is None or candidates.empty:
            return pd.Series(np.nan, index=candidates.index)
        intent = pd.Series(intents_of(grouping.results), index=grouping.grouped["query"])
        pairs = self._mapped
        rows = pd.DataFrame(
            {
                "page": pairs["page"],
                "topic": pairs["query"].map(intent),
                "chosen": pairs["clicks"] + PRIOR_CHOICE * pairs["expected_clicks"],
            }
        )
        return merging.shared_intent(rows[rows["topic"].notna() & (rows["topic"] >= 0) & (rows["chosen"] > 0)], candidates)

    @once
    def _merges(self) -> tuple[pd.DataFrame, pd.DataFrame, pd.DataFrame]:
        """Merge groups, what each gains, and which pages that share queries stay apart."""
        pages, like, (candidates, _) = self._measured, self.config.verdicts, self._candidates
        facts = pages.assign(address=pages["page"], page=pages.index, stays=stays(pages, self.config.verdicts, self.config.windows.settled))
        facts["answer"] = self._answer_of_pages.reindex(pages.index)
        facts = facts.fillna({"conversions_long": 0, "backlinks": 0})
        found = merging.merge_groups(candidates, facts, like)
        gains = self._gains_of(found)
        worthless = gains.loc[gains["gain"] <= 0, "group"]
        found = found[~found["group"].isin(worthless)]
        return found, gains[~gains["group"].isin(worthless)], merging.kept_apart(candidates, found, facts, like)

    @once
    def _answer_of_pages(self) -> pd.Series:
        """How far each page answers what it draws, by impressions."""
        rows = rows_at(self._pairs, ~self._pairs["brand"], ["page", "answer", "impressions"])
        sums = (rows["answer"] * rows["impressions"]).groupby(rows["page"]).sum()
        shown = rows.groupby("page")["impressions"].sum()
        return sums / shown.where(shown > 0)

    @property
    def _groups(self) -> pd.DataFrame:
        return self._merges[0]

    @property
    def _group_gains(self) -> pd.DataFrame:
        return self._merges[1]

    def _gains_of(self, groups: pd.DataFrame) -> pd.DataFrame:
        if groups.empty:
            return pd.DataFrame(columns=["group", "gain", "gain_low", "gain_high", "clicks_alone", "survivor_rest"])
        return merging.merge_gain(
            groups,
            self._pairs,
            self._measured["withheld_share"],
            merging.shown_once(self._candidates[1], groups),
            self.curve,
            self.sight,
            self.standing,
            self.windows.recent.days,
        )

    @once
    def _strays(self) -> pd.DataFrame:
        """The openings of queries that no page answers, texts spelt."""
        rows = self._openings[self._openings["kind"] == "stray"]
        return rows.assign(query=spelt(rows["query"]), topic=spelt(rows["topic"]))

    @once
    def _stray_topics(self) -> pd.DataFrame:
        rows = self._openings[self._openings["kind"] == "stray"]
        # of pages that draw the same query astray, one is proposed for it: the one shown most, so that no search is promised twice
        rows = rows.sort_values(["query", "impressions", "page"], ascending=[True, False, True]).drop_duplicates("query")
        table = rows.groupby(["page", "topic"], as_index=False, observed=True).agg(
            queries=("query", "size"),
            impressions=("impressions", "sum"),
            clicks=("clicks", "sum"),
            position_sum=("position_sum", "sum"),
            placed=("placed", "sum"),
            gain=("gain", "sum"),
            gain_low=("gain_low", "sum"),
            gain_high=("gain_high", "sum"),
        )
        table["topic"] = spelt(table["topic"])
        table["language"] = table["topic"].map(topic_languages(self._grouping.grouped))
        return table.assign(position=weighted_position(table["position_sum"], table["placed"]))

    @once
    def _covers(self) -> pd.Series:
        """For each poor or gone page the living page on the same question, by its words, else by what its queries asked; null without one."""
        pages, t = self._measured, self.config.verdicts
        poor = (pages["clicks_long"] < t.prune_clicks) & ~pages["gone"]
        leaving = np.flatnonzero((poor | pages["gone"]).to_numpy())
        staying = np.flatnonzero((~poor & ~pages["gone"] & ~pages["blocked"] & ~is_hub(pages, t)).to_numpy())
        found = covering_page(pages, leaving, staying, brand=self.config.site.brand, words=self._words_of_pages)
        if not self._is_paired:
            return found
        asked = answering_page(self._mapped, leaving[found.isna().to_numpy()], staying, t.answers)
        asked = asked[(asked["weight"] >= t.min_gain) & (asked.groupby("page")["share"].transform("max") >= ANSWERS)]
        pairs = asked.groupby("page").head(BESIDE).dropna().astype({"other": "int64"})
        pairs = pairs.rename(columns={"page": "page_a", "other": "page_b"})
        said = pages.assign(title=subject_of(pages), h1="")
        pairs["likeness"] = title_likeness(said, pairs, self._words_of_pages[0], self.config.site.brand)
        pairs = pairs[names_its_own(said["title"] + " " + said["path"], pairs, self._words_of_pages[0])]
        several = pairs.groupby("page_a")["page_b"].transform("size") > 1  # of one alone nothing tells which words are the subject
        best = pairs[(pairs["share"] >= ANSWERS) & (pairs["likeness"] >= SAYS_TOO) & several].drop_duplicates("page_a")
        return found.where(found.notna(), best.set_index("page_a")["page_b"].reindex(found.index))

    @once
    def _sections_of(self) -> pd.Series:
        """For each gone page the hub of its section; null without one."""
        pages = self._measured
        hubs = is_hub(pages, self.config.verdicts) & ~pages["gone"] & ~pages["blocked"]
        gone = np.flatnonzero(pages["gone"].to_numpy())
        return section_page(pages, gone, np.flatnonzero(hubs.to_numpy()), brand=self.config.site.brand, words=self._words_of_pages)

    def _prepare_facts(self) -> None:
        """Everything that rules read, on two cores: what does not rest on each other is worked out side by side."""
        self._joined  # noqa: B018 - asked for, so that it is there
        with ahead(self, "_expected", "_change_parts", "trends"):
            self._pages  # noqa: B018
            self._mapped  # noqa: B018
        with ahead(self, "_candidates"):
            self.standing  # noqa: B018
            self._say("looking for pages to merge")
        with ahead(self, "_openings"):
            self._merges  # noqa: B018

    @once
    def _facts(self) -> Facts:
        return Facts(
            self._measured,
            climbs_of_pages(self._openings),
            self._groups,
            self._group_gains,
            self._stray_topics,
            self._covers,
            self.windows,
            self.config.verdicts,
            self.config.windows.settled,
            self.standing,
        )

    def why(self, page: str) -> pd.DataFrame:
        """Every figure that every rule looked at for a page, by its address."""
        known = self._measured["page"]
        return reasoning(self._facts, int(known.index[known == page][0]))

    @once
    def _decided(self) -> tuple[pd.DataFrame, pd.DataFrame]:
        self._prepare_facts()
        facts = self._facts
        self._say("deciding")
        verdicts, evidence = decide(facts)
        return verdicts.assign(worth=verdicts["gain"] * self._worth_of_visits.reindex(verdicts.index)), evidence

    @once
    def _worth_of_visits(self) -> pd.Series:
        """Money a visit from search earns on each page: conversions per session of the section (shrunk to the site) x value, or revenue; null
        without either. Under -1 that of the site.
        """
        pages, value = self._measured, self.config.value.conversion
        if value is None and not pages["revenue_long"].fillna(0).sum():
            return pd.Series(np.nan, index=[*pages.index, -1])
        of_section = pages.groupby("section")[["conversions_long", "revenue_long", "sessions_long"]].transform("sum").fillna(0.0)
        whole = pages[["conversions_long", "revenue_long", "sessions_long"]].fillna(0.0).sum()
        earned = "conversions_long" if value is not None else "revenue_long"
        of_site = whole[earned] / max(whole["sessions_long"], 1.0)
        per_session = (of_section[earned] + 200 * of_site) / (of_section["sessions_long"] + 200)
        per_session.loc[-1] = of_site
        worth: pd.Series = per_session * (value if value is not None else 1.0)
        return worth

    # -- tables for people ---------------------------------------------------------------------------------------------------------------

    def prepare(self) -> None:
        """Compute every reduction that later questions rest on; the account is drawn up while the engine sums."""
        self._joined  # noqa: B018 - asked for, so that it is there
        with ahead(self, "account"):
            self._store.table(self._engine, "pairs", self._key, self._numbered_pairs)

    @once
    def _page_table(self) -> pd.DataFrame:
        verdicts, _ = self._decided
        return named_pages(self._measured, verdicts)

    def pages(self) -> pd.DataFrame:
        """The ledger: one row per page with the columns of pages.csv, by address."""
        return self._page_table.copy()

    def queries(self) -> pd.DataFrame:
        """The query map: one row per page and query with the columns of queries.csv; withheld rows have an empty query, totals of queries an
        empty page.
        """
        found = named_queries(self._pairs, self._measured)
        return with_lone(found, self._lone_in_topics) if len(self._lone_queries) else found

    def query_totals(self) -> pd.DataFrame:
        """One row per query of the recent window: pages, clicks, impressions, position, brand."""
        if len(lone := self._lone_queries):
            return lone.assign(pages=0)[["query", "pages", "clicks", "impressions", "brand", "position"]]
        return query_totals(self._pairs[self._pairs["impressions"] > 0])

    def verdicts(self) -> pd.DataFrame:
        """One row per page that has a verdict: page, verdict, cause, target, gains, worth, confidence, because, also; largest gain first."""
        names = ["page", "verdict", "cause", "target", "clicks", "gain", "gain_low", "gain_high", "worth", "confidence", "because", "also"]
        rows = self._page_table[self._page_table["verdict"].notna()][names]
        return rows.sort_values(["gain", "page"], ascending=[False, True], na_position="last", ignore_index=True)

    def openings(self) -> pd.DataFrame:
        """Clicks within reach: page, query, kind (climb, snippet, stray), position, clicks, expected_clicks, gain, gain_low, gain_high."""
        found = by_gain(self._openings)
        found = found.assign(page=found["page"].map(self._pages["page"]))[OPENINGS]
        if len(self._lone_queries):
            lone = by_gain(self._lone_openings)[OPENINGS].astype({"page": "str"}).assign(page=None)
            found = pd.concat([found, lone], ignore_index=True).sort_values(["gain", "query"], ascending=[False, True], ignore_index=True)
        return found

    @property
    def _lone_openings(self) -> pd.DataFrame:
        """Openings of queries whose pages no row tells: climbs and snippets, as if the site answered them."""
        t, rows = self.config.verdicts, self._lone_in_topics
        rows = rows.assign(page=-1, role="owner", answer=1.0, query=pd.Categorical(rows["query"]), topic=pd.Categorical(rows["topic"]))
        days = self.windows.recent.days
        return find_openings(rows, self.curve, self.sight, days, t, standing=self.standing, lexicon=self._words_of_pages[0])

    def groups(self) -> pd.DataFrame:
        """Merge groups: group, page, survivor, shared_impressions, overlap, turn_taking, and the net gain of the group."""
        rows = self._groups.merge(self._group_gains, on="group", how="left")
        return rows.assign(page=rows["page"].map(self._pages["page"]))

    def apart(self) -> pd.DataFrame:
        """Pairs of pages that draw the same queries and yet are not merged, with the reason."""
        rows, names = self._merges[2], self._pages["page"]
        return rows.assign(page=rows["page"].map(names), other=rows["other"].map(names))

    def evidence(self) -> pd.DataFrame:
        """The figures behind each verdict: page, verdict, measure, value, threshold, window, source."""
        rows = self._decided[1]
        return rows.assign(page=rows["page"].map(self._pages["page"])).sort_values(["page", "measure"], kind="stable", ignore_index=True)

    def season_table(self) -> pd.DataFrame:
        """When each section and each page with enough clicks has its season: SEASONS."""
        sections = season_calendar(self.annual, self.windows.as_of).rename_axis("key").reset_index().assign(level="section")
        week = weekday_index(self._section_days)
        sections["weekend"] = sections["key"].map(week[[5, 6]].mean(axis=1))
        has = sections["peak"].notna()
        sections["season"] = np.where(has, "own", "evergreen" if self.annual.known else "unknown")
        waves, own = self._page_waves
        pages = season_calendar(waves, self.windows.as_of)
        kinds = np.select([own, pages["peak"].notna()], ["own", "section"], "evergreen") if waves.known else "unknown"
        pages = pages.assign(level="page", season=kinds, key=self.known_pages["page"].reindex(pages.index), weekend=np.nan)
        pages = pages.sort_values(["height", "key"], ascending=[False, True])
        found = pd.concat([sections.sort_values("key"), pages] if waves.known else [sections], ignore_index=True)
        return found.astype({"weekend": "float64"})[SEASONS]

    @once
    def _page_waves(self) -> tuple[Annual, pd.Series]:
        """The annual wave of every page with enough clicks, and whether it is its own: pages that changed for good, or owe all to an event that
        is over, have that of their section.
        """
        shown, clicks, ends = self._weeks
        sure = ~(self.trends["real"] | self.trends["event_to"].notna()).to_numpy(bool) & (clicks.sum(axis=1) >= SEASON_CLICKS)
        section = self.known_pages["section"].reindex(shown[sure])
        return page_waves(clicks[sure], section, ends, self.annual)

    def within_reach(self, place: float) -> pd.DataFrame:
        """Clicks within reach if every query that stands lower rose to `place`."""
        found = within_reach(self._pairs, self.curve, self.sight, self.windows.recent.days, place)
        return found.assign(page=found["page"].map(self.known_pages["page"]))

    def engagement(self) -> pd.DataFrame:
        """Visits by page and channel beside the same channel in the section."""
        if (landings := self._joined.landings) is None:
            return pd.DataFrame(columns=ENGAGEMENT)
        rows = self._reduced("visits-page-channel", lambda: reductions.channel_sums(landings, self.windows)).rename(
            columns={"page_id": "page"}
        )
        rows = rows.astype({name: "float64" for name in rows if name not in ("page", "channel")}).sort_values(
            ["page", "channel"], ignore_index=True
        )
        found = engagement_by_channel(rows[rows["sessions"] > 0].reset_index(drop=True), self._kind_of_page)
        return found.assign(page=found["page"].map(self.known_pages["page"]))

    @property
    def _kind_of_page(self) -> pd.Series:
        """The section of each page, with its kind where editors keep one."""
        section, kind = self.known_pages["section"], self._told_kinds
        return section.where(kind.isna(), section + " " + kind.astype("str"))

    @property
    def _told_kinds(self) -> pd.Series:
        """The kind of each page as editors keep it, null where they do not."""
        editorial, pages = self._joined.few("editorial"), self.known_pages
        if editorial is None or "kind" not in editorial:
            return pd.Series(np.nan, index=pages.index, dtype="str")
        return editorial.dropna(subset=["page_id"]).drop_duplicates("page_id").set_index("page_id")["kind"].reindex(pages.index)

    def trend_table(self) -> pd.DataFrame:
        """Lasting falls and rises, life and start of pages: TRENDS, by q_value."""
        rows = self.trends.assign(page=self.known_pages["page"].reindex(self.trends.index))[TRENDS]
        return rows.sort_values(["real", "q_value", "page"], ascending=[False, True, True], ignore_index=True)

    @once
    def _missed(self) -> pd.DataFrame:
        """Addresses that no source knows and people asked for in vain, often enough to matter: page (address), hits, covered, target (null
        where no page covers it and it belongs to no section).
        """
        hits = self._joined.missed()
        if hits is None:
            return pd.DataFrame({"page": [], "hits": [], "covered": [], "target": []})
        asked_for, home = self._engine.fetch(reductions.missed_hits(hits, self.windows)), self._joined.home
        path = asked_for["path"].str.replace(r"^https?://[^/]+|[?#].*$", "", regex=True)
        sums = asked_for.groupby(home.root + path)["hits"].sum()
        rows = sums[sums >= MATTERS].rename_axis("page").reset_index()
        pages, t = self._measured, self.config.verdicts
        known = pages[["title", "h1", "path", "clicks_long"]]
        asked = pd.concat([known, rows[["page"]].assign(path=rows["page"].str.removeprefix(home.root), clicks_long=0)], ignore_index=True)
        leaving, alive = np.arange(len(known), len(asked)), ~pages["gone"] & ~pages["blocked"]
        lexicon, hub, brand = self._words_of_pages[0], is_hub(pages, t), self.config.site.brand
        words = (lexicon, page_words(asked, lexicon))
        found = covering_page(asked, leaving, np.flatnonzero((alive & ~hub).to_numpy()), brand=brand, words=words)
        section = section_page(asked, leaving, np.flatnonzero((alive & hub).to_numpy()), brand=brand, words=words)
        target = found.where(found.notna(), section).map(pages["page"])
        return rows.assign(covered=found.notna().to_numpy(), target=target.to_numpy())

    def repairs(self) -> pd.DataFrame:
        """Technical faults between pages and their traffic: page, repair, weight, target, because."""
        links = None if self._links is None else self._links.rename("pages").rename_axis("target").reset_index()
        state = self._kept_from_index
        groups = self._groups.set_index("page")["group"]
        found = find_repairs(self._measured, self._pairs, self._covers, self.windows, links=links, kept_from_index=state, groups=groups)
        found = found.assign(page=found["page"].map(self.known_pages["page"]))
        if len(rows := self._missed):
            found = pd.concat([found, missed_addresses(rows, self.windows)], ignore_index=True).sort_values(
                "weight", ascending=False, kind="stable", ignore_index=True
            )
        return found.astype({"target": "str", "because": "str", "repair": "str"})

    def redirects(self) -> pd.DataFrame:
        """Where addresses that go should lead: from, to, status (301 or 410), because; no chains, no loops."""
        pages, verdicts = self._measured, self._decided[0]
        leaving = verdicts["verdict"].isin(["prune", "consolidate"])
        rows = pd.DataFrame(
            {"from": pages["page"], "to": verdicts["target"].map(pages["page"]), "because": "verdict " + verdicts["verdict"].fillna("")}
        )[leaving]
        moved = pages["gone"] & pages["redirects_to"].notna()
        now = pd.DataFrame({"from": pages["page"], "to": pages["redirects_to"], "because": "redirects already"})[moved]
        broken = (
            pages["gone"]
            & ~moved
            & (pages["status"].fillna(200) >= 400)
            & (pages[["clicks_long", "backlinks", "hits", "conversions_long"]].fillna(0).astype(float) > 0).any(axis=1)
        )
        cover, section = (found.reindex(pages.index).map(pages["page"]) for found in (self._covers, self._sections_of))
        broken &= cover.notna() | section.notna()  # what earned and nothing covers is put back, not given up: see repairs
        why = np.where(cover.notna(), "; that page covers it", "; put it back, until then its section")
        mend = pd.DataFrame(
            {
                "from": pages["page"],
                "to": cover.where(cover.notna(), section),
                "because": "answers " + pages["status"].astype("str") + " but earned" + pd.Series(why, index=pages.index, dtype="str"),
            }
        )[broken]
        missed = self._missed.dropna(subset=["target"])
        why = np.where(missed["covered"], "; that page covers it", "; the nearest section")
        asked = "asked for in vain " + missed["hits"].astype("str") + " times" + pd.Series(why, index=missed.index, dtype="str")
        visits = pd.DataFrame({"from": missed["page"], "to": missed["target"], "because": asked})
        found = straighten(pd.concat([rows, now, mend, visits], ignore_index=True))
        # what redirects already may lead to a page that fails or asks not to be found
        ends_dead = found["to"].isin(pages.loc[pages["gone"] | pages["blocked"], "page"])
        instead = pd.Series(cover.where(cover.notna(), section).to_numpy(), index=pages["page"])
        found["to"] = found["to"].where(~ends_dead, found["from"].map(instead))
        return found[~(ends_dead & found["to"].isna())].reset_index(drop=True)

    # -- tables for questions -----------------------------------------------------------------------------------------------------------

    def keep_asked(self, name: str) -> None:
        """Put a table of `asked` into the store."""
        self._store.table(self._engine, f"sql-{name}", self._key, lambda: self.asked(name))

    def asked(self, name: str) -> ibis.Table:
        """The expression of a table for questions in SQL that is made from rows: see `core.meanings`."""
        joined = self._joined
        if name in ("search", "landings"):
            rows = joined.search if name == "search" else joined.landings
            return reductions.told(rows, self._addresses, DETAIL)
        if name in ("days", "weeks"):
            reduced = reductions.page_days(joined.search) if name == "days" else reductions.page_weeks(joined.search)
            return reductions.named(reduced, self._addresses)
        if name in ("devices", "countries", "surfaces"):
            one = {"devices": "device", "countries": "country", "surfaces": "surface"}[name]
            return reductions.named(reductions.splits(joined.search, self.windows, one).rename({one: "value"}), self._addresses)
        if name == "sections":
            return reductions.section_days(joined.search, self._addresses)
        return joined.addressed(name, self._addresses)

    @once
    def _addresses(self) -> ibis.Table:
        """Number, address and section of every page, in the engine."""
        return self._engine.frame(self._joined.pages[["page", "section"]].reset_index(names="number"))

    @property
    def kinds(self) -> list[str]:
        """The kinds of sources that were given."""
        return self._joined.kinds

    def interrupt(self) -> None:
        """End what the engine works on."""
        if "_engines" in self.__dict__:
            for engine in dict.fromkeys(self._engines):
                engine.interrupt()

    def close(self) -> None:
        """Give the engine's memory and spill folder back; what was computed stays."""
        if "_engines" in self.__dict__:
            for engine in dict.fromkeys(self._engines):
                engine.close()
