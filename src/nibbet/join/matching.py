"""Assigns a page to every spelling of an address, and so to every row; results are stored for the next command."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nibbet.core.balanced import stacked
from nibbet.core.crawls import CHANGED, Taken, ages, changed_texts, newest_facts, only_in_older, undated_twins, with_days
from nibbet.core.join.address import Home, fold
from nibbet.core.join.rows import with_pages
from nibbet.core.sections import sections_of
from nibbet.core.sentences import readable
from nibbet.core.words import among
from nibbet.kinds import ADDRESSES, MEASURES
from nibbet.once import once
from nibbet.sources.clean import Clean
from nibbet.sources.periods import days_of_name

if TYPE_CHECKING:
    import ibis

    from nibbet.engine import AnyEngine, Store

CRAWL_ADDRESSES = ("redirect_to", "canonical", "parent")

#: columns of a crawl by which inventories are distinguished; texts are not needed
TOLD_APART = ("file", "page", "aside", "crawled", "status", "title", "description", *CRAWL_ADDRESSES)

#: why the spelling of a hit has no page, and for which client a hit is set aside
MISSED, ROBOTS_ALONE = "known only from failed hits", "known only from robots"
AUTOMATON = "automated client"


class Matching:
    """The pages of a site behind all spellings in its sources, and the tables of its sources by page.

    Every part is stored under the key, and computed from the sources only if it is not stored.
    """

    def __init__(
        self,
        engine: AnyEngine,
        store: Store,
        key: str,
        home: Home,
        cleans: list[Clean],
        tables: dict[str, ibis.Table | None],
        say: Callable[[str], None],
    ) -> None:
        """tables: by kind, the cleaned rows of all its sources."""
        self._engine, self._store, self._key, self._say = engine, store, key, say
        self._home, self._cleans, self._tables = home, cleans, tables

    def _frame(self, name: str, make: Callable[[], pd.DataFrame]) -> pd.DataFrame:
        return self._store.frame(name, self._key, make)

    def _table(self, name: str, make: Callable[[], ibis.Table]) -> ibis.Table:
        return self._store.table(self._engine, name, self._key, make)

    # -- spellings and pages -------------------------------------------------------------------------------------------------------------

    @once
    def addresses(self) -> pd.DataFrame:
        """Every spelling: spelling, page, reason, sources; see `core.join.address.fold`."""
        return self._frame("spellings", self._folded)

    def _folded(self) -> pd.DataFrame:
        self._say("matching addresses")
        keyed = [result[["spelling"]].assign(source=kind) for kind, result in self._spellings.items()]
        evidence = None if self._crawl is None else self._crawl.rename(columns={"page": "spelling"})
        result = fold(pd.concat([self._other_spellings(), *keyed]), self._home, evidence)
        return result if self._marked_hits is None else _without_strangers(result)

    @once
    def pages(self) -> pd.DataFrame:
        """page (address), path, section, in_search, in_landings, in_crawl, and is_page (in any of them, or in the editorial list), by page
        number.
        """

        def make() -> pd.DataFrame:
            table, number = _pages(self.addresses, self._home), self._page_of_spelling
            code, kinds = pd.factorize(self.addresses["sources"])
            for kind in ("search", "landings", "crawl", "editorial"):
                knows = np.array([kind in text.split() for text in kinds], dtype=bool)[code] & (number >= 0)
                table[f"in_{kind}"] = np.bincount(number[knows], minlength=len(table)) > 0
            # addresses known only from a sitemap, a link or a hit may never have existed
            table["is_page"] = table[["in_search", "in_landings", "in_crawl"]].any(axis=1) | table.pop("in_editorial")
            return table

        return self._frame("known-pages", make)

    @once
    def _page_of_spelling(self) -> NDArray[np.int64]:
        """The page number of every spelling, -1 without one; pages are numbered in the order of their spellings."""
        named = self.addresses["page"].dropna()
        number = np.full(len(self.addresses), -1, dtype=np.int64)
        number[named.index] = named.ne(named.shift()).cumsum() - 1
        return number

    @once
    def _number(self) -> pd.Series:
        return pd.Series(self.pages.index, index=self.pages["page"])

    @once
    def _keys(self) -> pd.DataFrame:
        """spelling, page_id, reason."""
        number = self._page_of_spelling
        page = pd.arrays.IntegerArray(number, number < 0)
        return self.addresses.assign(page_id=page)[["spelling", "page_id", "reason"]].astype({"spelling": "str", "reason": "str"})

    @once
    def _crawl(self) -> pd.DataFrame | None:
        return None if self._tables["crawl"] is None else self._engine.fetch(self._tables["crawl"])

    @once
    def _marked_hits(self) -> ibis.Table | None:
        hits = self._tables["hits"]
        return None if hits is None else self._engine.keep(_without_automata(self._engine, hits))

    @once
    def _spellings(self) -> dict[str, pd.DataFrame]:
        """For each large kind, its spellings with their keys: page_key, spelling."""
        result: dict[str, list[ibis.Table]] = {}
        for one in self._cleans:
            if one.spellings is not None:
                result.setdefault(one.kind, []).append(one.spellings)
        return {
            kind: self._engine.fetch(tables[0] if len(tables) == 1 else stacked(tables).distinct()).astype({"spelling": "str"})
            for kind, tables in result.items()
        }

    def _other_spellings(self) -> pd.DataFrame:
        """spelling, source of all other kinds; failed hits (misses) and hits by robots make no page by themselves."""
        sources = [
            (kind, table.filter(table.aside.isnull()), column)
            for kind, columns in ADDRESSES.items()
            if kind not in (*MEASURES, "hits") and (table := self._tables[kind]) is not None
            for column in columns
        ]
        if (hits := self._marked_hits) is not None:
            good, people = hits.status.fill_null(200).between(200, 399), hits.aside.isnull()
            fetched = hits.filter(good & (hits.aside == AUTOMATON))
            sources += [("hits", hits.filter(good & people), "path"), ("misses", hits.filter(~good & people), "path"), ("robots", fetched, "path")]  # fmt: skip
        parts = [
            self._engine.fetch(table.filter(table[column].notnull()).select(spelling=table[column]).distinct()).assign(source=source)
            for source, table, column in sources
        ]
        return pd.concat([pd.DataFrame({"spelling": [], "source": []}, dtype="str"), *parts]).drop_duplicates()

    # -- rows by page --------------------------------------------------------------------------------------------------------------------

    @once
    def _texts(self) -> ibis.Table:
        """key (the spelling), page_id, reason."""
        return self._table("places", lambda: self._engine.frame(self._keys.rename(columns={"spelling": "key"})))

    def rows(self, table: ibis.Table, kind: str) -> ibis.Table:
        """The rows of a large kind with their page_id: by the keys of spellings, or by the spellings where two share a key."""

        def make() -> ibis.Table:
            spelled = self._spellings[kind]
            if spelled["page_key"].duplicated().any():  # rare enough for the slower way
                return self._texts
            place = pd.Index(self._keys["spelling"]).get_indexer(spelled["spelling"])  # every spelling has been normalised
            return self._engine.frame(self._keys[["page_id", "reason"]].iloc[place].assign(key=spelled["page_key"].to_numpy()))

        places = self._table(f"places-{kind}", make)
        by, other = ("page", "page_key") if places.key.type().is_string() else ("page_key", "page")
        return with_pages(table, places, by=by).drop(other)

    def hits(self) -> ibis.Table | None:
        """Server hits with their page_id, those by robots and scripts set aside."""
        if self._tables["hits"] is None:
            return None
        return self._table("hits", lambda: with_pages(self._marked_hits, self._texts, by="path"))

    def missed(self) -> ibis.Table | None:
        """Hits by people on addresses known only from failed hits; None without a log or without any."""
        lost = self.addresses.loc[self.addresses["reason"] == MISSED, ["spelling"]].rename(columns={"spelling": "path"})
        if self._tables["hits"] is None or lost.empty:
            return None

        def make() -> ibis.Table:
            hits = self._marked_hits
            assert hits is not None
            return hits.filter(hits.aside.isnull()).semi_join(self._engine.frame(lost.astype("str")), "path")

        return self._table("missed", make)

    def links(self) -> ibis.Table | None:
        """Links with source_id and target_id, and linked: the target as written in the link."""
        if (links := self._tables["links"]) is None:
            return None

        def make() -> ibis.Table:
            ends = with_pages(self._newest_links(links), self._texts, by="source").rename(source_id="page_id")
            return with_pages(ends.mutate(linked=ends.target), self._texts, by="target").rename(target_id="page_id")

        return self._table("links", make)

    def _newest_links(self, links: ibis.Table) -> ibis.Table:
        """Links of several exports: those of a page in an older one are set aside where a newer one lists the links of that page."""
        import ibis

        place = ages(self._days_of_names("links"))
        if len(set(place.values())) < 2:
            return links
        aged = links.mutate(age=ibis.cases(*[(links.file == file, age) for file, age in place.items()], else_=0))
        newest = aged.filter(aged.aside.isnull()).group_by(linking="source").aggregate(newest=lambda rows: rows.age.min())
        joined = aged.left_join(newest, aged.source == newest.linking)
        older = joined.aside.isnull() & (joined.age > joined.newest)
        return joined.mutate(aside=ibis.cases((older, "older export"), else_=joined.aside)).drop("age", "linking", "newest")

    def _days_of_names(self, kind: str) -> dict[int, Taken | None]:
        """When each file of a kind was taken, by its name."""
        names = {number: name for one in self._cleans if one.kind == kind for number, (name, _) in zip(one.numbers, one.files, strict=True)}
        days = {number: days_of_name(name) for number, name in names.items()}
        return {number: None if day is None else Taken(*day) for number, day in days.items()}

    def events(self) -> ibis.Table | None:
        """Events with their page_id."""
        if (events := self._tables["events"]) is None:
            return None
        return self._table("events", lambda: with_pages(events, self._texts))

    def small_source(self, kind: str) -> pd.DataFrame | None:
        """The rows of a small kind with their page_id."""
        if (table := self._tables[kind]) is None:
            return None
        return self._frame(f"placed-{kind}", lambda: _resolved(self._engine.fetch(table), self._keys))

    @once
    def inventory(self) -> pd.DataFrame | None:
        """The crawl by page: its best row (a living one before a redirecting one), with the targets of redirect, canonical and breadcrumbs as
        pages.
        """
        if self._tables["crawl"] is None:
            return None

        def make() -> pd.DataFrame:
            assert self._crawl is not None, "there is a crawl"
            return newest_facts(self._stands(self._crawl))

        return self._frame("inventory", make)

    def changed_texts(self) -> pd.DataFrame:
        """Pages whose title or description changed between two inventories: see `core.crawls.changed_texts`."""
        return self._frame("changed-texts", lambda: changed_texts(self._several)) if len(self._several) else pd.DataFrame(columns=CHANGED)

    def inventory_doubts(self) -> tuple[list[int], list[str]]:
        """The numbers of pages that only older inventories than the newest contain; the files of unknown date that contradict one another."""
        names = {number: name for one in self._cleans for number, (name, _) in zip(one.numbers, one.files, strict=True)}
        rows = self._several
        return (only_in_older(rows), [names[file] for file in undated_twins(rows)]) if len(rows) else ([], [])

    @once
    def _several(self) -> pd.DataFrame:
        """The distinguishing columns of all rows of inventories; no rows where there is only one inventory."""
        crawl = self._crawl
        if crawl is None or (crawl["file"].nunique() < 2 and ("crawled" not in crawl or crawl["crawled"].nunique() < 2)):
            return pd.DataFrame()
        return self._stands(crawl[[name for name in TOLD_APART if name in crawl]])

    def _stands(self, crawl: pd.DataFrame) -> pd.DataFrame:
        """Rows of inventories with their page_id, their days, their targets, and rank: a living page before one that redirects or fails."""
        rows = with_days(crawl, self._days_of_names("crawl"))
        return _placed(_resolved(rows, self._keys), self.addresses, self._home, self._number)


def _without_strangers(addresses: pd.DataFrame) -> pd.DataFrame:
    """The spellings without those of pages known only from failed hits or robots, including other spellings of these."""
    sources = addresses["sources"].astype("category")
    failed, fetched = (sources.isin([text for text in sources.cat.categories if text in texts]) for texts in ({"misses", "misses robots"}, {"robots"}))  # fmt: skip
    named = addresses["page"].notna()
    stranger = named & (failed | fetched) & ~addresses["page"].isin(addresses.loc[~failed & ~fetched & named, "page"])
    spelled = addresses.loc[named & failed, ["spelling", "page"]].apply(
        lambda text: text.str.replace(r"^https?://[^/]+|[?#].*$", "", regex=True).map(unquote)
    )
    other = spelled.index[spelled["spelling"] != spelled["page"]]
    result = addresses.copy()
    result.loc[stranger, "reason"] = ROBOTS_ALONE
    result.loc[(stranger & failed) | result.index.isin(other), "reason"] = MISSED
    result.loc[stranger | result.index.isin(other), "page"] = None
    return result


def _without_automata(engine: AnyEngine, hits: ibis.Table) -> ibis.Table:
    """Hits, with those by known robots and scripts, and on files that are no pages, set aside."""
    import ibis

    from nibbet.sources.agents import automated

    agents = engine.fetch(hits.filter(hits.agent.notnull()).select("agent").distinct())["agent"].astype("str")
    marks = engine.frame(pd.DataFrame({"agent_known": agents, "automated": automated(agents)}))
    joined = hits.left_join(marks, hits.agent == marks.agent_known)
    asset = joined.path.re_search(
        r"(?i)\.(?:css|js|mjs|map|png|jpe?g|gif|svg|webp|avif|ico|woff2?|ttf|eot|mp4|webm|mp3|json|xml|txt|zip|gz)(?:[?#]|$)"
    )
    return joined.mutate(
        aside=ibis.cases(
            (joined.aside.notnull(), joined.aside),
            (joined.automated.fill_null(False), AUTOMATON),
            (asset, "no page"),
            else_=ibis.null("string"),
        )
    ).drop("agent_known", "automated")


def _pages(addresses: pd.DataFrame, home: Home) -> pd.DataFrame:
    """page, path and section of every page; a host that has pages of its own stands before its sections."""
    named = addresses["page"].dropna()
    page: Any = pa.array(named[named.ne(named.shift()).to_numpy()].to_numpy(object), pa.string())  # they are in order
    path = pc.replace_substring_regex(page, r"^https?://[^/]+", "")
    if pc.any(encoded := pc.match_substring(path, "%")).as_py():
        path = pc.replace_with_mask(path, encoded, pa.array([readable(one) for one in path.filter(encoded).to_pylist()], pa.string()))
    host: Any = pc.struct_field(pc.extract_regex(page, r"^https?://(?P<host>[^/]+)"), "host")
    apart = pc.is_in(host, pa.array(sorted(home.apart - home.moved), pa.string()))
    texts = {"page": page, "path": path, "host": pc.if_else(apart, host, "")}
    table = pd.DataFrame({name: pd.array(values, dtype="str") for name, values in texts.items()})
    return table.assign(section=sections_of(table["path"], table.pop("host")))


def _resolved(frame: pd.DataFrame, keys: pd.DataFrame) -> pd.DataFrame:
    known = keys.set_index("spelling")["page_id"]
    ordered = frame.sort_values(list(frame.columns), ignore_index=True)  # the engine guarantees no order, and first rows win below
    return ordered.assign(page_id=ordered["page"].map(known))


def _placed(crawl: pd.DataFrame, addresses: pd.DataFrame, home: Home, number: pd.Series) -> pd.DataFrame:
    targets = pd.concat([pd.DataFrame({"spelling": crawl[column].dropna(), "source": "crawl"}) for column in CRAWL_ADDRESSES])
    missing = targets[~among(targets["spelling"], addresses["spelling"])].drop_duplicates()
    result = pd.concat(
        [
            addresses[["spelling", "page"]],
            fold(missing, home)[["spelling", "page"]] if len(missing) else addresses.head(0)[["spelling", "page"]],
        ]
    )
    page_of = result.drop_duplicates("spelling").set_index("spelling")["page"]
    rows = crawl[crawl["page_id"].notna() & crawl["aside"].isna()]
    rows = rows.assign(**{f"{name.removesuffix('_to')}_page": rows[name].map(page_of) for name in CRAWL_ADDRESSES})
    page_number = rows["page_id"].map(pd.Series(number.index, index=number.to_numpy()))
    gone = rows["status"].fillna(200) >= 300
    other = (rows["redirect_page"].notna() & (rows["redirect_page"] != page_number)) | (
        rows["canonical_page"].notna() & (rows["canonical_page"] != page_number)
    )
    return rows.assign(elsewhere=other, rank=gone * 2 + other).astype({"page_id": "int64"})
