"""All sources joined under one address per page: the tables behind every measure, and the account of the join."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from typing import TYPE_CHECKING, Any

import ibis
import pandas as pd

from nibbet.core.balanced import stacked
from nibbet.core.join.address import Home
from nibbet.core.join.rows import account_of_file, balance, served_days, settle_landings, settle_search
from nibbet.core.join.spans import Cover
from nibbet.core.tables import rows_of
from nibbet.core.windows import last_complete_day, last_complete_period
from nibbet.errors import SourceError
from nibbet.join.matching import Matching
from nibbet.join.overlaps import Settled, settle_overlaps, settle_undated
from nibbet.join.slugs import with_pages_of_slugs
from nibbet.kinds import ADDRESSES, MEASURES, TABLES
from nibbet.once import once
from nibbet.sources.clean import Clean
from nibbet.sources.profile import WEB

if TYPE_CHECKING:
    from nibbet.config import Config
    from nibbet.engine import AnyEngine, Store

DIGITS = {"engagement_seconds": 6, "conversions": 6, "revenue": 6}


class Joined:
    """All sources of a site by page, and the account of their join.

    Expensive results are stored under a key and reused by the next command; rows are joined only when a sum is needed
    that is not stored.
    """

    def __init__(self, engine: AnyEngine, store: Store, key: str, config: Config, cleans: list[Clean], say: Callable[[str], None]) -> None:
        self._engine, self._store, self._key, self._config, self._say = engine, store, key, config, say
        self.files = _number_files(cleans)
        "Every file in the order of the account: its name and the table it is part of."
        self.home = Home.of(config.site)
        self._cleans = {kind: [one for one in cleans if one.kind == kind] for kind in TABLES}
        self._raw = {kind: _union(engine, rows) for kind, rows in self._cleans.items()}
        if any("slug" in one.reading.matches for one in self._cleans["editorial"]):
            editorial = self._raw["editorial"]
            assert editorial is not None, "there is a list"
            self._raw["editorial"] = with_pages_of_slugs(engine, editorial, self._raw)
        self._named: dict[str, ibis.Table] = {}
        self._known: dict[str, Settled] = {}
        self._matching = Matching(engine, store, key, self.home, cleans, self._raw, say)

    # -- by page -------------------------------------------------------------------------------------------------------------------------

    @property
    def addresses(self) -> pd.DataFrame:
        """Every spelling: spelling, page, reason, sources."""
        return self._matching.addresses

    @property
    def pages(self) -> pd.DataFrame:
        """page (address), path, section, in_search, in_landings, in_crawl, is_page, by page number."""
        return self._matching.pages

    @property
    def inventory(self) -> pd.DataFrame | None:
        """The crawl by page number; None without one."""
        return self._matching.inventory

    def changed_texts(self) -> pd.DataFrame:
        """Pages whose title or description changed between two inventories: see `core.crawls.changed_texts`."""
        return self._matching.changed_texts()

    def inventory_doubts(self) -> tuple[list[int], list[str]]:
        """Pages that only older inventories contain, and inventories of unknown date that contradict one another."""
        return self._matching.inventory_doubts()

    def small_source(self, kind: str) -> pd.DataFrame | None:
        """The rows of editorial, backlinks or sitemap with their page_id; None without such a source."""
        return self._matching.small_source(kind)

    @once
    def kinds(self) -> list[str]:
        """The kinds of sources that were given."""
        return [kind for kind, table in self._raw.items() if table is not None]

    @property
    def given(self) -> dict[str, set[str]]:
        """By kind, the columns that any of its tables has; for search also the grains of its rows: pair, page, query or site."""
        result: dict[str, set[str]] = {}
        for _, one in self.files:
            result.setdefault(one.kind, set()).update(one.reading.matches, {one.grain} if one.kind == "search" else set())
        return result

    def table(self, kind: str) -> ibis.Table | None:
        """The cleaned rows of a kind, with the page numbers of hits, links and events; None where none were given."""
        if kind in ("hits", "links", "events"):
            table: ibis.Table | None = getattr(self._matching, kind)()
            return table
        return self._rows(kind) if kind in MEASURES and kind in self.kinds else self._raw[kind]

    def missed(self) -> ibis.Table | None:
        """Hits by people on addresses that are no page in any source."""
        return self._matching.missed()

    def _rows(self, kind: str) -> ibis.Table:
        """The cleaned rows of a large source under a table name, since they may come from many files."""
        if kind not in self._named:
            self._named[kind] = self._engine.view(self._raw[kind])
        return self._named[kind]

    # -- rows that are summed ------------------------------------------------------------------------------------------------------------

    @once
    def search(self) -> ibis.Table:
        """Search rows with page_id, aside, detail and the columns for sums: see `core.join.rows.settle_search`."""
        result = self._overlaps("search")
        rows = settle_undated(self._engine, self._matching.rows(result.table, "search"), result.covered_periods)
        covered = self._engine.frame(result.page_days).mutate(date=ibis._.date.cast("date")) if len(result.page_days) else None
        return self._settled(settle_search(rows, self.as_of, covered, self._surfaces), bool(result.notes or result.covered_periods))

    @once
    def _surfaces(self) -> list[str] | None:
        """The surfaces that count, as named in rows; None where all do."""
        named = {"surface" in one.reading.matches for _, one in self.files if one.kind == "search"}
        if True not in named:
            return None
        rows = self._rows("search")
        names = sorted(self._engine.fetch(rows.select("surface").distinct())["surface"].dropna().astype("str"))
        wanted = [name.casefold() for name in self._config.site.surfaces]
        counted = [name for name in names if name.strip().casefold() in (wanted or WEB)]
        return counted if counted or wanted or False in named else None  # a table without surfaces is one of web search

    @once
    def landings(self) -> ibis.Table | None:
        """Landing rows with page_id and aside; None without landings."""
        if self._raw["landings"] is None:
            return None
        result = self._overlaps("landings")
        rows = settle_undated(self._engine, self._matching.rows(result.table, "landings"), result.covered_periods)
        return self._settled(settle_landings(rows, self.as_of), bool(result.notes or result.covered_periods))

    def _settled(self, rows: ibis.Table, dear: bool) -> ibis.Table:
        """Rows under a table name; expensive ones are materialised once."""
        return self._engine.keep(rows) if dear else self._engine.view(rows)

    def _overlaps(self, kind: str) -> Settled:
        """The result of `settle_overlaps`, computed once."""
        if kind not in self._known:
            self._known[kind] = settle_overlaps(self._engine, self._rows(kind), self._cleans[kind], kind)
        return self._known[kind]

    # -- how it balances -----------------------------------------------------------------------------------------------------------------

    @once
    def as_of(self) -> date:
        """The last complete day of the search rows, or the one in the settings."""

        def make() -> str:
            return (self._config.site.as_of or _as_of(self._engine, self._overlaps("search"), self.files)).isoformat()

        return date.fromisoformat(self._store.value("as-of", self._key, make))

    @property
    def first(self) -> date:
        """The first day of search rows that count."""
        return date.fromisoformat(self._balance["first"])

    @property
    def covers(self) -> list[Cover]:
        """The days that the rows of search and landings cover."""
        iso = date.fromisoformat
        return [Cover(kind, grain, step, iso(a), iso(b), n) for kind, grain, step, a, b, n in self._balance["covers"]]

    @property
    def query_days(self) -> list[tuple[date, date]]:
        """First and last days of the stretches on which dated rows name queries of pages."""
        return [(date.fromisoformat(a), date.fromisoformat(b)) for a, b in self._balance["query_days"]]

    @property
    def days(self) -> pd.DataFrame:
        """One row per complete day of the site: date, clicks, impressions."""
        days = pd.DataFrame(self._balance["days"])
        return days.assign(date=pd.to_datetime(days["date"]))

    @property
    def account(self) -> dict[str, Any]:
        """sources: of every file, rows and measures read = used + set aside; notes."""
        return {name: self._balance[name] for name in ("sources", "notes")}

    @once
    def _balance(self) -> dict[str, Any]:
        def make() -> dict[str, Any]:
            self._matching.addresses  # noqa: B018 - found first, so that each step is told under its name
            self._say("joining")
            rows = {kind: self.table(kind) for kind in TABLES}
            fates = _fates(self._engine, self.files, {**rows, "search": self.search, "landings": self.landings}, self.addresses)
            result = fates["search"]
            settled = {kind: self._overlaps(kind) for kind in ("search", "landings") if kind in self.kinds}
            steps = result["file"].map(settled["search"].step_of_file)
            served = result["aside"].isna()
            covers = [c for one in settled.values() for c in one.covers if c.step != "undated" or c.end <= self.as_of]
            starts = [c.start for c in covers if c.kind == "search" and c.step != "day" and c.start <= self.as_of]
            if not served.any():
                raise _nothing_left(self._engine, self.search, self.files)
            first = min([day.date() for day in result.loc[served & (steps == "day"), "date"].dropna()] + starts)
            daily = steps.isin(["day", "week"])
            days = served_days(result[daily])
            if days.empty:  # daily totals of the site, where no page row has days
                grain = result["file"].map(dict(enumerate(one.grain for _, one in self.files)))
                lone = result[daily & (grain == "site") & result["pageless"]]
                days = lone.groupby("date", as_index=False)[["clicks", "impressions"]].sum()
            sources = _account(self.files, fates)
            notes = [*_unreadable(sources), *(note for one in settled.values() for note in one.notes)]
            notes += [*_disagreements(result, self.files), *_placeless(result, self.files)]
            notes += [{"code": code, "text": text} for code, text in dict.fromkeys(note for _, one in self.files for note in one.notes)]
            return {
                "sources": sources,
                "first": first.isoformat(),
                "notes": notes,
                "days": days.assign(date=days["date"].dt.strftime("%Y-%m-%d")).to_dict("list"),
                "covers": [[c.kind, c.grain, c.step, str(c.start), str(c.end), c.days] for c in covers],
                "query_days": [[str(a), str(b)] for a, b in settled["search"].query_days],
            }

        return dict(self._store.value("joined", self._key, make))

    # -- for questions -------------------------------------------------------------------------------------------------------------------

    def addressed(self, kind: str, pages: ibis.Table) -> ibis.Table:
        """The cleaned rows of a small source, with its columns of addresses as addresses of pages (null where they are not of this site).

        Args:
            pages: number, page.
        """
        table = self.table(kind)
        assert table is not None, "asked for what was given"
        number = self.addresses[["spelling", "page"]].rename(columns={"spelling": "key", "page": "address"}).dropna()
        known = self._engine.frame(number.astype("str"))
        for column in ADDRESSES.get(kind, ()):
            if column in table.columns:
                joined = table.left_join(known, table[column] == known.key)
                table = joined.drop("key", column).rename({column: "address"})
            else:  # its page number is already known
                ids = {"source": "source_id", "target": "target_id"}.get(column, "page_id")
                at = pages.select("number", address="page")
                table = (
                    table.left_join(at, table[ids] == at.number)
                    .drop("number", ids)
                    .rename({"page" if column == "path" else column: "address"})
                )
        shown = [
            name for name in table.columns if name not in {"part", "file", "grain", "undated", "free", "aside", "start", "nested", "coarse"}
        ]
        first = [name for name in ("page", "source", "target") if name in shown and ADDRESSES.get(kind)]
        return table.select(*first, *[name for name in shown if name not in first], set_aside="aside")


def _number_files(cleans: list[Clean]) -> list[tuple[str, Clean]]:
    """Every file in the order of the account, as (name, the table it belongs to); its index is its number."""
    names: list[tuple[str, Clean]] = []
    for one in cleans:
        one.numbers = list(range(len(names), len(names) + len(one.files)))
        names += [(name, one) for name, _ in one.files]
    return names


def _union(engine: AnyEngine, cleans: list[Clean]) -> ibis.Table | None:
    """The tables of one kind concatenated, with file (its number) and grain; a file given twice counts once, the copy is set aside."""
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
    return stacked(parts)


def _nothing_left(engine: AnyEngine, search: ibis.Table, names: list[tuple[str, Clean]]) -> SourceError:
    """The error that no row can be used: which files were read and why their rows were set aside."""
    fates = engine.fetch(search.group_by("file", "aside").aggregate(rows=search.count()))
    parts = [
        f"{names[int(row['file'])][0]}: {row['rows']:,} rows {row['aside'] or 'after as_of'}"
        for row in fates.sort_values(["file", "aside"]).to_dict("records")
    ]
    empty = [f"{name}: no rows" for name, one in names if one.kind == "search" and not parts]
    reasons = "; ".join([*parts, *empty][:6])
    return SourceError(f"No search row is left to use ({reasons}). Check the files, and home, hosts, where and as_of in nibbet.toml.")


#: weeks below which the newest one is judged as a month is
FEW_WEEKS = 22
#: periods of about one length, such as quarters, above which the newest may have only begun
ONE_AFTER_ANOTHER = 3


def _as_of(engine: AnyEngine, settled: Settled, names: list[tuple[str, Clean]]) -> date:
    """The last complete day: of daily rows where there are any, else of months, else of periods of one length, else the newest end of one."""
    used = settled.table.filter(settled.table.aside.isnull())
    result = engine.fetch(used.group_by("grain", "date", "file").aggregate(impressions=used.impressions.sum().cast("int64")))
    if result.empty:
        raise _nothing_left(engine, settled.table, names)
    result["date"] = pd.to_datetime(result["date"])
    result["step"] = result["file"].map(settled.step_of_file)
    for step in ("day", "week", "month"):
        rows = result[result["step"] == step]
        days = next((of for grain in ("page", "pair") if len(of := rows[rows["grain"] == grain])), rows)
        if len(days):
            sums: pd.DataFrame = days.groupby("date", as_index=False)[["impressions"]].sum()
            is_short = step == "month" or (step == "week" and len(sums) < FEW_WEEKS)
            return last_complete_period(sums) if is_short else last_complete_day(sums)
    sums = result.groupby("date", as_index=False)[["impressions"]].sum()
    lengths = [(one.period[1] - one.period[0]).days for _, one in names if one.kind == "search" and one.period is not None]
    alike = len(sums) == len(lengths) > ONE_AFTER_ANOTHER and min(lengths) > 0.9 * max(lengths)
    return last_complete_period(sums) if alike else pd.Timestamp(result["date"].max()).date()


def _fates(
    engine: AnyEngine, files: list[tuple[str, Clean]], tables: dict[str, ibis.Table | None], addresses: pd.DataFrame
) -> dict[str, pd.DataFrame]:
    """For every kind that was given, the rows of `core.join.rows.balance`, with the measures that any of its files has."""
    fates = {}
    for kind, table in tables.items():
        if table is not None:
            final = _with_address_fate(table, addresses, engine) if "page" in table.columns else table
            given = [name for name in MEASURES.get(kind, []) if any(name in one.measures for _, one in files if one.kind == kind)]
            result = engine.fetch(balance(final, [*given, "placed"] if kind == "search" else given))
            fates[kind] = result.assign(date=pd.to_datetime(result["date"])).sort_values(["file", "date"], ignore_index=True)
    return fates


#: relative difference of totals of one period from which it is reported
DISAGREE = 0.02


def _disagreements(fates: pd.DataFrame, files: list[tuple[str, Clean]]) -> list[dict[str, str]]:
    """A note for each table of totals (of queries, days, devices ...) whose clicks differ from those of pages over the same days."""
    used = fates[fates["aside"].isna()]
    grain = used["file"].map(dict(enumerate(one.grain for _, one in files)))
    period = used["file"].map({number: one.period for number, (_, one) in enumerate(files)})
    pages = used[(grain == "page") | ((grain == "pair") & (not grain.eq("page").any()))]
    notes: list[dict[str, str]] = []
    if pages.empty:
        return notes
    for number, rows in used[grain.isin(["query", "site"])].groupby("file"):
        name, one = files[int(str(number))]
        mine = int(rows["clicks"].sum())
        if one.period is not None:
            same = pages[period.reindex(pages.index).map(lambda p, this_period=one.period: p == this_period)]
        else:
            same = pages[pages["date"].isin(rows["date"]) & period.reindex(pages.index).isna()]
            mine = int(rows.loc[rows["date"].isin(same["date"]), "clicks"].sum())
        theirs = int(same["clicks"].sum())
        if theirs and mine and abs(mine - theirs) > DISAGREE * theirs:
            text = f"{name} has {mine:,} clicks where pages over the same days have {theirs:,} ({mine / theirs - 1:+.0%}): queries are withheld, or one of the tables is cut."
            notes.append({"code": "totals_differ", "text": text})
    return notes


#: share of the rows of a file from which unreadable ones are reported, and how their reasons begin
MANY_UNREADABLE, UNREADABLE = 0.01, ("unreadable", "negative", "impossible", "more cells")


def _unreadable(sources: list[dict[str, Any]]) -> list[dict[str, str]]:
    """A note for each file of which many rows cannot be read, and for which reason."""
    return [
        {
            "code": "unreadable",
            "text": f"{one['file']}: {fate['rows']:,} of {one['rows_read']:,} rows are left out: {fate['reason']}. "
            f"Look at them: nibbet sql \"SELECT * FROM {one['kind']} WHERE set_aside = '{fate['reason']}'\"",
        }
        for one in sources
        for fate in one["set_aside"]
        if fate["reason"].startswith(UNREADABLE) and fate["rows"] >= MANY_UNREADABLE * one["rows_read"]
    ]


def _placeless(fates: pd.DataFrame, files: list[tuple[str, Clean]]) -> list[dict[str, str]]:
    """A note for each file whose column of positions is empty for some impressions."""
    sums = fates[fates["aside"].isna()].groupby("file")[["impressions", "placed"]].sum()
    short = sums[(sums["placed"] < sums["impressions"]) & (sums["placed"] > 0)]
    return [
        {
            "code": "placeless",
            "text": f"{files[int(str(number))][0]}: {row.impressions - row.placed:,.0f} impressions have no usable position; they count except for positions.",
        }
        for number, row in zip(short.index, rows_of(short), strict=True)
    ]


def _account(files: list[tuple[str, Clean]], fates: dict[str, pd.DataFrame]) -> list[dict[str, Any]]:
    """The account: every file with what was read, used and set aside."""
    entries: dict[int, dict[str, Any]] = {}
    for kind, result in fates.items():
        totals = result.drop(columns="date").groupby(["file", "aside", "detail", "nested", "pageless"], dropna=False, as_index=False).sum()
        for number, rows in totals.groupby("file"):
            name, one = files[int(str(number))]
            entries[int(str(number))] = account_of_file(name, kind, rows, one.measures, DIGITS)
    for number, (name, one) in enumerate(files):
        entries.setdefault(number, {"file": name, "kind": one.kind, "rows_read": 0, "rows_used": 0, "set_aside": [], "measures": {}})
    return [entries[number] for number in sorted(entries)]


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
    """For each measure, the share of it on pages that the other sources contain too; and such shares of the number of pages.

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
