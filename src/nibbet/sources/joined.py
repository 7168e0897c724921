"""All sources brought to one address per page: the tables that every measure is computed from, and the account of the join."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from functools import cached_property, reduce
from typing import TYPE_CHECKING, Any

import ibis
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc

from nibbet.core.address import Home, fold
from nibbet.core.join import PAGELESS, account_of_file, balance, settle_landings, settle_search, with_pages
from nibbet.core.windows import last_complete_day
from nibbet.core.words import among
from nibbet.errors import SourceError
from nibbet.sources.clean import Clean
from nibbet.sources.kinds import ADDRESSES, MEASURES, TABLES
from nibbet.sources.overlaps import settle_overlaps, settle_undated

if TYPE_CHECKING:
    from nibbet.config import Config
    from nibbet.engine import AnyEngine

DIGITS = {"engagement_seconds": 6, "conversions": 6, "revenue": 6}
CRAWL_ADDRESSES = ("redirect_to", "canonical")


@dataclass
class Joined:
    """search, landings: tables of the engine with page_id, aside (and detail); landings is null when there is none.

    pages: page_id (its row number), page (address), path, in_search, in_landings, in_crawl. inventory, editorial, backlinks: frames by page_id,
    null where no such source was given. addresses: the table of section addresses. fates: account pieces by file.
    """

    search: ibis.Table
    landings: ibis.Table | None
    pages: pd.DataFrame
    inventory: pd.DataFrame | None
    editorial: pd.DataFrame | None
    backlinks: pd.DataFrame | None
    addresses: pd.DataFrame
    as_of: date
    first: date
    account: dict[str, Any]
    files: list[tuple[str, Clean]]
    sitemap: pd.DataFrame | None
    tables: dict[str, ibis.Table | None]
    home: Home

    def addressed(self, engine: AnyEngine, kind: str, pages: ibis.Table) -> ibis.Table:
        """A kind of few rows as cleaned, its columns of addresses as the addresses of pages (null where they are none of this site's).

        Args:
            pages: number, page.
        """
        table = self.tables[kind]
        assert table is not None, "asked for what was given"
        number = self.addresses[["spelling", "page"]].rename(columns={"spelling": "met", "page": "address"}).dropna()
        known = engine.frame(number.astype("str"))
        for column in ADDRESSES.get(kind, ()):
            if column in table.columns:
                joined = table.left_join(known, table[column] == known.met)
                table = joined.drop("met", column).rename({column: "address"})
            else:  # its page is known by number already
                ids = {"source": "source_id", "target": "target_id"}.get(column, "page_id")
                at = pages.select("number", address="page")
                table = (
                    table.left_join(at, table[ids] == at.number)
                    .drop("number", ids)
                    .rename({"page" if column == "path" else column: "address"})
                )
        shown = [name for name in table.columns if name not in {"part", "file", "grain", "undated", "free", "aside"}]
        first = [name for name in ("page", "source", "target") if name in shown and ADDRESSES.get(kind)]
        return table.select(*first, *[name for name in shown if name not in first], set_aside="aside")


def join_sources(engine: AnyEngine, config: Config, cleans: list[Clean], say: Callable[[str], None]) -> Joined:
    """Bring the cleaned sources together; every row is used or set aside with a reason."""
    names = _number_files(cleans)
    tables = {kind: _union(engine, [one for one in cleans if one.kind == kind]) for kind in TABLES}
    say("matching addresses")
    crawl = engine.fetch(tables["crawl"]) if tables["crawl"] is not None else None
    home = Home(config.site.home, tuple(config.site.hosts), tuple(config.site.tracking), tuple(config.site.old_hosts))
    hits = tables["hits"]
    if hits is not None:
        tables["hits"] = hits = engine.keep(_without_automata(engine, hits))
    keyed = _met_keys(engine, cleans)
    spellings = pd.concat([_met_texts(engine, tables), *[found[["spelling"]].assign(source=kind) for kind, found in keyed.items()]])
    if crawl is not None:
        extra = pd.concat([pd.DataFrame({"spelling": crawl[c].dropna(), "source": "crawl"}) for c in CRAWL_ADDRESSES])
        evidence = crawl.rename(columns={"page": "spelling"})
    addresses = fold(spellings, home, evidence if crawl is not None else None)
    known = addresses["sources"] != "misses"  # an address that only failed hits know is no page
    addresses.loc[~known, ["page", "reason"]] = [None, "known only from failed hits"]
    pages = _pages(addresses)
    number = pd.Series(pages.index, index=pages["page"])
    keys = addresses.assign(page_id=addresses["page"].map(number).astype("Int64"))[["spelling", "page_id", "reason"]]
    places = _Places(engine, keys, keyed)
    say("joining")
    search, page_days, notes = settle_overlaps(engine, _need(tables["search"]), [one for one in cleans if one.kind == "search"], "search")
    as_of = config.site.as_of or _as_of(engine, search, names)
    periods = _periods(cleans, "search")
    search = settle_undated(engine, places.of(search, "search"), periods)
    covered = engine.frame(page_days).mutate(date=ibis._.date.cast("date")) if len(page_days) else None
    search = settle_search(search, as_of, covered)
    search = engine.keep(search) if notes or periods else engine.view(search)  # what took a while to settle is settled once
    landings = None
    if tables["landings"] is not None:
        visits, _, more = settle_overlaps(engine, tables["landings"], [one for one in cleans if one.kind == "landings"], "landings")
        periods = _periods(cleans, "landings")
        landings = settle_landings(settle_undated(engine, places.of(visits, "landings"), periods), as_of)
        landings = engine.keep(landings) if more or periods else engine.view(landings)
        notes += more
    by_page = _by_page(engine, tables, crawl, keys, places)
    inventory = None
    if by_page["crawl"] is not None:
        inventory = _inventory(by_page["crawl"], addresses, home, number, extra)
    pages = pages.assign(**{f"in_{kind}": pages.index.isin(_met(addresses, number, kind)) for kind in ("search", "landings", "crawl")})
    account, first = _account(engine, names, {**tables, "search": search, "landings": landings}, addresses)
    if first is None:
        raise _nothing_left(engine, search, names)
    account["notes"] = notes + [{"code": code, "text": text} for one in cleans for code, text in one.notes]
    return Joined(
        search,
        landings,
        pages,
        inventory,
        by_page["editorial"],
        by_page["backlinks"],
        addresses,
        as_of,
        first,
        account,
        names,
        by_page["sitemap"],
        tables,
        home,
    )


def _by_page(
    engine: AnyEngine, tables: dict[str, ibis.Table | None], crawl: pd.DataFrame | None, keys: pd.DataFrame, places: _Places
) -> dict[str, pd.DataFrame | None]:
    """The kinds of few rows as frames with page_id; hits and links find their pages inside the engine."""
    if (hits := tables["hits"]) is not None:
        tables["hits"] = engine.keep(with_pages(hits, places.texts, by="path"))
    if (links := tables["links"]) is not None:
        ends = with_pages(links, places.texts, by="source").rename(source_id="page_id")
        tables["links"] = engine.keep(with_pages(ends, places.texts, by="target").rename(target_id="page_id"))
    return {
        kind: None if (table := tables[kind]) is None else _resolved(crawl if kind == "crawl" else engine.fetch(table), keys)
        for kind in ("crawl", "editorial", "backlinks", "sitemap")
    }


def _periods(cleans: list[Clean], kind: str) -> dict[int, tuple[date, date]]:
    """The days covered by each undated file of a kind, by its number."""
    return {
        number: one.period
        for one in cleans
        if one.kind == kind and one.period and "date" not in one.reading.matches
        for number in one.numbers
    }


def _met_keys(engine: AnyEngine, cleans: list[Clean]) -> dict[str, pd.DataFrame]:
    """For each kind of many rows, the spellings met in it with their keys: page_key, spelling."""
    found: dict[str, list[ibis.Table]] = {}
    for one in cleans:
        if one.met is not None:
            found.setdefault(one.kind, []).append(one.met)
    return {
        kind: engine.fetch(met[0] if len(met) == 1 else reduce(lambda a, b: a.union(b), met).distinct()).astype({"spelling": "str"})
        for kind, met in found.items()
    }


def _met_texts(engine: AnyEngine, tables: dict[str, ibis.Table | None]) -> pd.DataFrame:
    """spelling, source of all other kinds; hits that failed count as misses, which make no page by themselves."""
    met = [
        (kind, table, column)
        for kind, columns in ADDRESSES.items()
        if kind not in (*MEASURES, "hits") and (table := tables[kind]) is not None
        for column in columns
    ]
    if (hits := tables["hits"]) is not None:
        good = hits.status.fill_null(200).between(200, 399)
        met += [("hits", hits.filter(good), "path"), ("misses", hits.filter(~good), "path")]
    parts = [
        engine.fetch(table.filter(table[column].notnull() & table.aside.isnull()).select(spelling=table[column]).distinct()).assign(
            source=source
        )
        for source, table, column in met
    ]
    return pd.concat([pd.DataFrame({"spelling": [], "source": []}, dtype="str"), *parts]).drop_duplicates()


class _Places:
    """The pages behind what rows carry: by the keys of spellings where rows have them, else by the spellings themselves."""

    def __init__(self, engine: AnyEngine, keys: pd.DataFrame, keyed: dict[str, pd.DataFrame]) -> None:
        self._engine, self._keys, self._keyed = engine, keys.astype({"spelling": "str", "reason": "str"}), keyed

    @cached_property
    def texts(self) -> ibis.Table:
        """met (the spelling), page_id, reason."""
        return self._engine.frame(self._keys.rename(columns={"spelling": "met"}))

    def of(self, table: ibis.Table, kind: str) -> ibis.Table:
        """The rows of a kind of many rows with their page_id."""
        met = self._keyed[kind]
        if met["page_key"].duplicated().any():  # two spellings with one key: rare enough to take the slower way
            return with_pages(table, self.texts).drop("page_key")
        place = pd.Index(self._keys["spelling"]).get_indexer(met["spelling"])  # every spelling met was folded
        found = self._keys[["page_id", "reason"]].iloc[place].assign(met=met["page_key"].to_numpy())
        return with_pages(table, self._engine.frame(found), by="page_key").drop("page")


def _without_automata(engine: AnyEngine, hits: ibis.Table) -> ibis.Table:
    """Hits with those of known robots and scripts, and of files that are no pages, set aside."""
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
            (joined.automated.fill_null(False), "automated client"),
            (asset, "no page"),
            else_=ibis.null("string"),
        )
    ).drop("agent_known", "automated")


def _need(table: ibis.Table | None) -> ibis.Table:
    assert table is not None, "read_sources always gives search"
    return table


def _number_files(cleans: list[Clean]) -> list[tuple[str, Clean]]:
    """Every file in the order of the account, as (name, the table it is part of); its place there is its number."""
    names: list[tuple[str, Clean]] = []
    for one in cleans:
        one.numbers = list(range(len(names), len(names) + len(one.files)))
        names += [(name, one) for name, _ in one.files]
    return names


def _union(engine: AnyEngine, cleans: list[Clean]) -> ibis.Table | None:
    """The tables of one kind below each other, with file (its number) and grain; a file given twice serves once, the copy is set aside."""
    if not cleans:
        return None
    seen: dict[str, str] = {}
    parts = []
    for one in cleans:
        copies = {
            number: seen[digest]
            for number, (name, digest) in zip(one.numbers, one.files, strict=True)
            if seen.setdefault(digest, name) != name and digest
        }
        table = one.table.mutate(file=(one.table.part + one.numbers[0]).cast("int32"), grain=ibis.literal(one.grain)).drop("part")
        if copies:
            table = table.mutate(
                aside=ibis.cases(
                    *[(table.file == number, f"same content as {first}") for number, first in copies.items()], else_=table.aside
                )
            )
        parts.append(table)
    return reduce(lambda a, b: a.union(b), parts)


def _nothing_left(engine: AnyEngine, search: ibis.Table, names: list[tuple[str, Clean]]) -> SourceError:
    """No row can be used: which files were read and why their rows went."""
    fates = engine.fetch(search.group_by("file", "aside").aggregate(rows=search.count()))
    parts = [
        f"{names[int(row['file'])][0]}: {row['rows']:,} rows {row['aside'] or 'after as_of'}"
        for row in fates.sort_values(["file", "aside"]).to_dict("records")
    ]
    empty = [f"{name}: no rows" for name, one in names if one.kind == "search" and not parts]
    told = "; ".join([*parts, *empty][:6])
    return SourceError(f"No search row is left to use ({told}). Check the files, and home, hosts, where and as_of in nibbet.toml.")


def _as_of(engine: AnyEngine, search: ibis.Table, names: list[tuple[str, Clean]]) -> date:
    used = search.filter(search.aside.isnull())
    top = "page" if "page" in engine.fetch(used.select("grain").distinct())["grain"].tolist() else "pair"
    days = engine.fetch(
        used.filter(used.grain == top).group_by("date").aggregate(impressions=used.impressions.sum().cast("int64")).order_by("date")
    )
    if days.empty:
        days = engine.fetch(used.group_by("date").aggregate(impressions=used.impressions.sum().cast("int64")).order_by("date"))
    if days.empty:
        raise _nothing_left(engine, search, names)
    return last_complete_day(days.assign(date=pd.to_datetime(days["date"])))


def _pages(addresses: pd.DataFrame) -> pd.DataFrame:
    named = addresses["page"].dropna()
    page = pa.array(named[named.ne(named.shift()).to_numpy()], pa.string())  # they stand in order
    path = pc.replace_substring_regex(page, r"^https?://[^/]+", "")
    section = pc.struct_field(pc.extract_regex(path, r"^(?P<section>/[^/?]+/)"), "section").fill_null("/")
    return pd.DataFrame({name: pd.array(values, dtype="str") for name, values in (("page", page), ("path", path), ("section", section))})


def _met(addresses: pd.DataFrame, number: pd.Series, kind: str) -> pd.Series:
    rows = addresses[addresses["page"].notna() & addresses["sources"].str.contains(kind)]
    return rows["page"].map(number)


def _resolved(frame: pd.DataFrame, keys: pd.DataFrame) -> pd.DataFrame:
    known = keys.set_index("spelling")["page_id"]
    ordered = frame.sort_values(list(frame.columns), ignore_index=True)  # the engine promises no order, and first rows win below
    return ordered.assign(page_id=ordered["page"].map(known))


def _inventory(crawl: pd.DataFrame, addresses: pd.DataFrame, home: Home, number: pd.Series, targets: pd.DataFrame) -> pd.DataFrame:
    """The crawl by page: its best row (a live one before a redirecting one) and where redirect and canonical lead, as pages."""
    missing = targets[~among(targets["spelling"], addresses["spelling"])].drop_duplicates()
    found = pd.concat(
        [
            addresses[["spelling", "page"]],
            fold(missing, home)[["spelling", "page"]] if len(missing) else addresses.head(0)[["spelling", "page"]],
        ]
    )
    page_of = found.drop_duplicates("spelling").set_index("spelling")["page"]
    rows = crawl[crawl["page_id"].notna() & crawl["aside"].isna()].assign(
        redirect_page=crawl["redirect_to"].map(page_of), canonical_page=crawl["canonical"].map(page_of)
    )
    own = rows["page_id"].map(pd.Series(number.index, index=number.to_numpy()))
    gone = rows["status"].fillna(200) >= 300
    other = (rows["redirect_page"].notna() & (rows["redirect_page"] != own)) | (
        rows["canonical_page"].notna() & (rows["canonical_page"] != own)
    )
    return (
        rows.assign(elsewhere=other, rank=gone * 2 + other)
        .sort_values(["page_id", "rank", "page"], kind="stable")
        .drop_duplicates("page_id")
        .set_index("page_id")
    )


def _account(
    engine: AnyEngine, files: list[tuple[str, Clean]], tables: dict[str, ibis.Table | None], addresses: pd.DataFrame
) -> tuple[dict[str, Any], date | None]:
    """The account: every file with what was read, used and set aside; and the first day of search rows that serve."""
    entries: dict[int, dict[str, Any]] = {}
    first = None
    for kind, table in tables.items():
        if table is None:
            continue
        final = _with_address_fate(table, addresses, engine) if "page" in table.columns else table
        given = [name for name in MEASURES.get(kind, []) if any(name in one.measures for _, one in files if one.kind == kind)]
        fates = engine.fetch(balance(final, given))
        if kind == "search":
            days = pd.to_datetime(fates["first"])[fates["aside"].isna() | (fates["aside"] == PAGELESS)]
            first = days.min().date() if days.notna().any() else None
        for number, rows in fates.groupby("file"):
            name, one = files[int(number)]
            entries[int(number)] = account_of_file(name, kind, rows, one.measures, DIGITS)
    for number, (name, one) in enumerate(files):
        entries.setdefault(number, {"file": name, "kind": one.kind, "rows_read": 0, "rows_used": 0, "set_aside": [], "measures": {}})
    return {"sources": [entries[number] for number in sorted(entries)], "notes": []}, first


def _with_address_fate(table: ibis.Table, addresses: pd.DataFrame, engine: AnyEngine) -> ibis.Table:
    lost = addresses[addresses["page"].isna()][["spelling", "reason"]]
    if lost.empty:
        return table.mutate(aside=ibis.cases((table.aside.isnull() & table.page.isnull(), "no address"), else_=table.aside))
    keyed = engine.frame(lost.astype("str"))
    out = table.left_join(keyed, table.page == keyed.spelling)
    return out.mutate(aside=ibis.cases((out.aside.notnull(), out.aside), (out.page.isnull(), "no address"), else_=out.reason)).drop(
        "spelling", "reason"
    )


def matched(pages: pd.DataFrame, sums: dict[str, pd.Series]) -> dict[str, Any]:
    """For each measure, the share that falls on pages which the other sources know too; and such shares of the pages.

    Args:
        pages: in_search, in_landings, in_crawl, indexed by page number; sums: measure by page number.
    """
    kinds = [kind for kind in ("search", "landings", "crawl") if pages[f"in_{kind}"].any()]
    out: dict[str, Any] = {}
    for name, of in sums.items():
        total = int(of.sum())
        out[name] = {
            f"in_{kind}": round(float(of[pages[f"in_{kind}"].reindex(of.index).to_numpy(bool)].sum() / total), 6) if total else None
            for kind in kinds
        }
    out["pages"] = {f"in_{kind}": round(float(pages[f"in_{kind}"].mean()), 6) for kind in kinds}
    return out
