"""A site with its sources: hands out finished tables, from the store where they are there, else from the pipeline."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from nibbet.config import KINDS, Config, load_config, make_config
from nibbet.engine.store import Store, key_of, program
from nibbet.errors import NotFoundError
from nibbet.scopes import RESULTS, SUMS, values_of
from nibbet.sources.files import find_files, name_in, small_neighbours

if TYPE_CHECKING:
    import pandas as pd
    import pyarrow as pa

    from nibbet.core.briefs import Brief
    from nibbet.core.curve import Curve
    from nibbet.core.windows import Windows
    from nibbet.pipeline import Pipeline
    from nibbet.pipeline.comparison import Comparison

Say = Callable[[str], None]
#: pairs of windows whose sums stay in memory: each may hold as much as the site's own
COMPARISONS = 2


def open_site(folder: str | Path = ".", *, as_of: date | None = None, protect: Sequence[str] = (), say: Say = lambda _: None) -> Site:
    """The site whose nibbet.toml lies in `folder`; its store is folder/.nibbet.

    protect: patterns of pages that are never removed or merged away, besides those of the settings.
    Raises ConfigError when there are no settings or they are not usable.
    """
    root = Path(folder)
    config = load_config(root / "nibbet.toml")
    if as_of is not None:
        config = config.model_copy(update={"site": config.site.model_copy(update={"as_of": as_of})})
    if protect:
        kept = config.protect.model_copy(update={"pages": [*config.protect.pages, *protect]})
        config = config.model_copy(update={"protect": kept})
    return Site(config=config, root=root, store=Store(root / ".nibbet", say), say=say)


class Account(dict[str, Any]):
    """How the join balances; a notebook shows it as a table."""

    def _repr_html_(self) -> str:
        from nibbet.render.notebook import account_html

        return account_html(self)


class Site:
    """One site: its sources joined by page, its measures, query map and verdicts, each computed when first asked for.

    From frames: Site(home="https://tarnbrook.example/", search=frame, landings=frame, ...) takes pandas, Polars, Arrow and Ibis tables and
    paths of files; `settings` holds further tables of nibbet.toml, such as {"protect": {"pages": ["/legal/*"]}}.
    """

    def __init__(
        self,
        home: str | None = None,
        *,
        config: Config | None = None,
        root: str | Path = ".",
        store: Store | None = None,
        say: Say = lambda _: None,
        settings: dict[str, Any] | None = None,
        **sources: Any,
    ) -> None:
        if config is None:
            given = dict(settings or {})
            config = make_config({**given, "site": {**given.get("site", {}), **({"home": home} if home else {})}})
        self.config, self.root, self._say = config, Path(root), say
        self._frames = {kind: frame for kind, frame in sources.items() if frame is not None}
        if unknown := set(self._frames) - set(KINDS):
            raise NotFoundError(f"Site does not know the source {', '.join(sorted(unknown))}. It knows: {', '.join(KINDS)}.")
        told = not self._frames and all(source.table is None for source in config.source)  # whether equal sources can be told
        self._comparisons: dict[Windows, Comparison] = {}
        self._store = store if told and store is not None else Store(None)

    # -- what was read -------------------------------------------------------------------------------------------------------------------

    @cached_property
    def _sources_key(self) -> str:
        """The digest of the program, of every file read, and of the settings that sums rest on."""
        files = [
            [(name_in(self.root, path), self._store.digest(path)) for path in find_files(self.root, source.files)]
            for source in self.config.source
            if source.table is None
        ]
        folders = {path.parent for source in self.config.source if source.table is None for path in find_files(self.root, source.files)}
        beside = [(path.name, self._store.digest(path)) for folder in sorted(folders) for path in small_neighbours(folder)]
        return key_of(program(), files, beside, values_of(self.config, SUMS))

    @cached_property
    def _pipeline(self) -> Pipeline:
        from nibbet.pipeline import Pipeline

        return Pipeline(self.config, self.root, self._frames, self._store, self._sources_key, self._say)

    def _kept(self, name: str, make: Callable[[Pipeline], pd.DataFrame]) -> pd.DataFrame:
        """A finished table, from the store where it is there."""
        return self._store.frame(name, self._result_key, lambda: make(self._pipeline))

    @cached_property
    def _result_key(self) -> str:
        return key_of(self._sources_key, values_of(self.config, RESULTS))

    def __repr__(self) -> str:
        return f"<Site {self.config.site.home}>"

    def _repr_html_(self) -> str:
        from nibbet.render.notebook import site_html

        return site_html(self)

    @cached_property
    def account(self) -> Account:
        """How the join balances: per source rows and measures read = used + set aside; the share matched; notes with a code."""

        def make() -> dict[str, Any]:
            return self._pipeline.account.balance

        return Account(self._store.value("account", self._result_key, make))

    def load(self, *, fresh: bool = False) -> dict[str, Any]:
        """Read what is new in the sources and compute every sum that later questions rest on; returns the account.

        fresh: forget what was kept, and read everything again.
        """
        if fresh:
            self._store.clear()
        with self._store.held():
            if not self._store.has("pairs", self._sources_key):
                self._pipeline.prepare()
            return self.account

    @property
    def addresses(self) -> pd.DataFrame:
        """Every spelling met: spelling, page, reason, sources."""
        return self._kept("addresses", lambda p: p.inputs.spellings)

    @property
    def windows(self) -> Windows:
        """The recent, reference and long window."""
        from nibbet.core.windows import Windows

        def make() -> dict[str, Any]:
            return self._pipeline.inputs.windows.as_dict()

        return Windows.from_dict(self._store.value("windows", self._sources_key, make))

    def _address_table(self) -> pd.DataFrame:
        return self.addresses

    @property
    def days(self) -> pd.DataFrame:
        """One row per complete day of the site: date, clicks, impressions."""
        return self._kept("site-days", lambda p: p.inputs.days)

    @property
    def curve(self) -> Curve:
        """The site's own CTR curve, learnt from the long window."""
        from nibbet.core.curve import Curve

        rates = self._kept("rates", lambda p: p.expectation.curve.rates)
        return Curve(rates, self._store.value("learnt", self._sources_key, lambda: self._pipeline.expectation.curve.learnt))

    # -- tables for people ---------------------------------------------------------------------------------------------------------------

    def pages(self) -> pd.DataFrame:
        """The ledger: one row per page with the columns of pages.csv, by address."""
        return self._kept("ledger", lambda p: p.decisions.ledger_table())

    def queries(self) -> pd.DataFrame:
        """The query map: one row per page and query with the columns of queries.csv; withheld rows have an empty query."""
        return self._kept("queries", lambda p: p.decisions.queries_table())

    def query_totals(self) -> pd.DataFrame:
        """One row per query of the recent window: pages, clicks, impressions, position, brand."""
        return self._kept("query-totals", lambda p: p.query_map.query_totals())

    def verdicts(self) -> pd.DataFrame:
        """One row per page that has a verdict: page, verdict, cause, target, gains, worth, confidence, because, also; largest gain first."""
        return self._kept("verdicts", lambda p: p.decisions.verdicts())

    def openings(self) -> pd.DataFrame:
        """Clicks within reach: page, query, kind (climb, snippet, stray), position, clicks, expected_clicks, gain, gain_low, gain_high."""
        return self._kept("openings", lambda p: p.opportunities.table())

    def groups(self) -> pd.DataFrame:
        """Merge groups: group, page, survivor, shared_impressions, overlap, turn_taking, and the net gain of the group."""
        return self._kept("groups", lambda p: p.merges.table())

    def topics(self) -> pd.DataFrame:
        """Queries grouped so that one page can answer each group: topic, label, language (ISO code where it is
        asked in another than the site's), queries, volume, volume_kind (searches a month or
        impressions), clicks, impressions, position, shown_share, served (covered, partly, uncovered), page, answered_share, proposal
        (none, extend, new page, translate, restore), gain, gain_low, gain_high, worth, peak, because, strength; those with most to gain first, in sections that do well before others.
        """
        return self._kept("topics", lambda p: p.topics.table())

    def check_ideas(self, ideas: Sequence[str]) -> pd.DataFrame:
        """Ideas held against what the site has: idea, topic, likeness (1 where the idea is a query that is known), queries, volume,
        volume_kind, served, page, position, advice.
        """
        import pandas as pd

        return self._pipeline.topics.check_ideas(pd.Series(list(ideas), dtype="str"))

    def between(self, one: str, other: str) -> dict[str, Any]:
        """Whether two queries need one page or two: answer, because, and the shares of results, pages and words in common.

        Raises NotFoundError for a query that no source knows.
        """
        return self._pipeline.topics.between(one, other)

    def brief(self, topic: str) -> Brief:
        """What an author needs to write on a topic, named by its label or any of its queries. Raises NotFoundError."""
        return self._pipeline.topics.brief(topic)

    def briefs(self, write: Callable[[Brief, str], str], most: int = 12) -> pd.DataFrame:
        """The briefs of the proposals with most to gain: topic, text as `write` makes it of a brief and the recent window.

        Texts of Nibbet's own writers are kept; what another function writes is not known by its name, so that it is always asked.
        """

        def make(pipeline: Pipeline) -> pd.DataFrame:
            import pandas as pd

            found = pipeline.topics.table().query("proposal != 'none' and gain > 0").head(most)["topic"]
            texts = [write(pipeline.topics.brief(topic), str(pipeline.sums.windows.recent)) for topic in found]
            return pd.DataFrame({"topic": found.astype("str").reset_index(drop=True), "text": pd.Series(texts, dtype="str")})

        own = f"{write.__module__}.{write.__qualname__}"
        return self._kept(f"briefs-{most}-{own}", make) if own.startswith("nibbet.") else make(self._pipeline)

    def topics_aside(self) -> pd.DataFrame:
        """Queries that belong to no topic, by reason: reason, queries, impressions."""
        return self._kept("topics-aside", lambda p: p.query_map.topics_aside())

    def strengths(self) -> pd.DataFrame:
        """What works here: clicks and conversions per page and per search of sections, named groups, kinds and lengths of pages, beside the
        usual: `core.strength.STRENGTHS`.
        """
        return self._kept("strengths", lambda p: p.measures.strengths)

    def apart(self) -> pd.DataFrame:
        """Pairs of pages that draw the same queries and yet are not merged: page, other, shared (queries), shared_impressions, overlap,
        turn_taking, because.
        """
        return self._kept("apart", lambda p: p.merges.apart_table())

    def evidence(self) -> pd.DataFrame:
        """The figures behind each verdict: page, verdict, measure, value, threshold, window, source."""
        return self._kept("evidence", lambda p: p.decisions.evidence())

    def redirects(self) -> pd.DataFrame:
        """Where addresses that go should lead: from, to, status (301 or 410), because; no chains, no loops."""
        return self._kept("redirects", lambda p: p.mends.redirects())

    # -- what changed --------------------------------------------------------------------------------------------------------------------

    def compare(self, recent: int | str | None = None, against: str | None = None, *, by: str | None = None) -> pd.DataFrame:
        """What changed between two windows, why, and what it adds to the whole: the columns of changes.csv, real and large changes first.

        Args:
            recent: how many days up to the last complete one, or FROM..TO; [windows] recent when left out.
            against: year (the same days a year before), before (the days just before) or FROM..TO; the year where the data reach it.
            by: one level (site, section, group, brand, device, country, surface, channel, topic, page, query); all when left out.
        Raises NotFoundError for a level or window that there is not.
        """
        from nibbet.core.compare import CHANGES, LEVELS, nothing

        if by is not None and by not in LEVELS:
            raise NotFoundError(f"There is no level {by}.{_close(by, list(LEVELS))} Levels: {', '.join(LEVELS)}.")
        return self._compared(recent, against, f"changes-{by or 'all'}", lambda c: c.table(by) if c else nothing(CHANGES))

    def losses(self, recent: int | str | None = None, against: str | None = None) -> pd.DataFrame:
        """Queries of a page that lose clicks together, named as one loss: page, subject, queries, recent, reference, change, parts, why."""
        from nibbet.core.compare import LOSSES, nothing

        return self._compared(recent, against, "losses", lambda c: c.losses() if c else nothing(LOSSES))

    def trends(self) -> pd.DataFrame:
        """Per page with enough clicks, what its weeks tell once season and section are taken out: a lasting fall (collapse, slow decay) or
        rise, since which week, how deep, with interval; evergreen or short-lived; and for new pages how many of the site's started worse.
        """
        return self._kept("trends", lambda p: p.history.trend_table())

    def pulls(self) -> pd.DataFrame:
        """Pull of pages (no query) and of pairs with interval, flagged low or high, and the clicks lost to a poor choice; most lost first."""
        return self._kept("pulls", lambda p: p.diagnostics.pulls())

    def parts(self) -> pd.DataFrame:
        """Sums and rates of the site, its sections and the named groups of pages."""
        return self._kept("parts", lambda p: p.diagnostics.parts())

    def peers(self) -> pd.DataFrame:
        """Pages whose pull, engagement or conversions fall below (or rise above) those of their section or group."""
        return self._kept("peers", lambda p: p.diagnostics.peers())

    def segments(self) -> pd.DataFrame:
        """Pages that do well in one device, country or surface and badly in another: pull and engagement side by side."""
        return self._kept("segments", lambda p: p.diagnostics.segments())

    def engagement(self) -> pd.DataFrame:
        """How visitors of each channel stay on a page, beside the same channel on the other pages of its section."""
        return self._kept("engagement", lambda p: p.diagnostics.engagement())

    def weekly(self, pages: Sequence[str]) -> pd.DataFrame:
        """Clicks of whole weeks up to the last complete day, one row per page named (by address), one column per week, named by its last day."""
        wanted = sorted(pages)
        return self._kept(f"weekly-{key_of(wanted)}", lambda p: p.history.weekly(wanted).reset_index()).set_index("page")

    def within_reach(self, place: float = 3.0) -> pd.DataFrame:
        """Clicks a month within reach if every query that stands lower rose to `place`, with an 80% interval; largest first."""
        if not 1 <= place <= 100:
            raise NotFoundError(f"place = {place} is no position. Give one from 1 to 100.")
        return self._kept(f"reach-{place:g}", lambda p: p.opportunities.within_reach(place))

    def seasons(self) -> pd.DataFrame:
        """When each section, and each page with enough clicks, has its season: level, key, season (own, section: that of its section,
        evergreen, unknown), height, peak, begins, ready_by, second_height, second_peak, low, quiet, weekend.
        """
        return self._kept("seasons", lambda p: p.history.season_table())

    def compared_windows(self, recent: int | str | None = None, against: str | None = None) -> Windows:
        """The windows that `compare` holds against each other."""
        from nibbet.core.windows import chosen_windows

        return chosen_windows(self.windows, recent, against)

    def _compared(
        self, recent: int | str | None, against: str | None, name: str, make: Callable[[Comparison | None], pd.DataFrame]
    ) -> pd.DataFrame:
        windows = self.compared_windows(recent, against)
        if not windows.reference_known or windows.reference.start < windows.first:  # the usual windows of a short history
            return make(None)
        key = key_of(self._result_key, windows.as_dict())
        return self._store.frame(name, key, lambda: make(self._comparison(windows)))

    def _comparison(self, windows: Windows) -> Comparison:
        found = self._comparisons.pop(windows, None) or self._pipeline.comparison(windows)
        while len(self._comparisons) >= COMPARISONS:  # the one that was asked for longest ago
            self._comparisons.pop(next(iter(self._comparisons)))
        self._comparisons[windows] = found
        return found

    def repairs(self) -> pd.DataFrame:
        """Technical faults between pages and their traffic, most visits at stake first: page, repair, weight, target, because."""
        return self._kept("repairs", lambda p: p.mends.repairs())

    # -- questions -----------------------------------------------------------------------------------------------------------------------

    def sql(self, statement: str, **values: Any) -> pd.DataFrame:
        """The rows that a SELECT over the site's tables gives (`sql_tables` lists them); `values` are bound to $name.

        Raises NotFoundError for anything but one SELECT on those tables.
        """
        from nibbet.core.meanings import TABLE_MEANINGS
        from nibbet.engine.sql import answer, names_in

        wanted = names_in(statement)
        if strange := sorted(wanted - set(TABLE_MEANINGS)):
            raise NotFoundError(f"There is no table {strange[0]}.{_close(strange[0], list(TABLE_MEANINGS))} See: nibbet sql --tables")
        files = {name: self._table_file(name) for name in sorted(wanted)}
        return answer(statement, files, values, memory=self.config.engine.memory)

    def sql_tables(self) -> pd.DataFrame:
        """The tables that `sql` can ask: one row per column: table, column, type, meaning."""
        import pandas as pd

        from nibbet.core.meanings import COLUMN_MEANINGS, TABLE_MEANINGS

        rows = []
        for name, meaning in TABLE_MEANINGS.items():
            if name in KINDS and name not in self._kinds:
                continue
            rows.append((name, "", "", meaning))
            rows += [
                (name, field.name, _type_name(field.type), COLUMN_MEANINGS.get(field.name, ""))
                for field in self._schema(name)
                if not field.name.startswith("__")
            ]
        return pd.DataFrame(rows, columns=["table", "column", "type", "meaning"])

    @cached_property
    def _kinds(self) -> list[str]:
        return list(self._store.value("kinds", self._sources_key, lambda: self._pipeline.inputs.source_kinds))

    def _schema(self, name: str) -> pa.Schema:
        """The columns of a table for SQL; one of rows is not computed for that."""
        import pyarrow.parquet as pq

        if name in self._finished or self._store.has(f"sql-{name}", self._sources_key):
            return pq.read_schema(self._table_file(name))
        return self._pipeline.questions.table(name).schema().to_pyarrow()

    def _table_file(self, name: str) -> Path:
        """Where a table for SQL lies; made when it is not there."""
        if name in self._finished:
            kept, make = self._finished[name]
            if not self._store.has(kept, self._result_key):
                make()
            return self._store.path(kept, self._result_key)
        if name in KINDS and name not in self._kinds:
            raise NotFoundError(f"The site has no source of the kind {name}. It has: {', '.join(self._kinds)}.")
        if not self._store.has(f"sql-{name}", self._sources_key):
            self._pipeline.questions.keep(name)
        return self._store.path(f"sql-{name}", self._sources_key)

    @cached_property
    def _finished(self) -> dict[str, tuple[str, Callable[[], pd.DataFrame]]]:
        """Tables for SQL that are finished frames: the name under which each is kept, and what makes it."""
        return {
            "pages": ("ledger", self.pages),
            "queries": ("queries", self.queries),
            "query_totals": ("query-totals", self.query_totals),
            "verdicts": ("verdicts", self.verdicts),
            "openings": ("openings", self.openings),
            "evidence": ("evidence", self.evidence),
            "groups": ("groups", self.groups),
            "topics": ("topics", self.topics),
            "apart": ("apart", self.apart),
            "strengths": ("strengths", self.strengths),
            "redirects": ("redirects", self.redirects),
            "repairs": ("repairs", self.repairs),
            "changes": ("changes-table", self._changes_table),
            "losses": ("losses-table", self._losses_table),
            "trends": ("trends", self.trends),
            "seasons": ("seasons", self.seasons),
            "pulls": ("pulls", self.pulls),
            "parts": ("parts", self.parts),
            "peers": ("peers", self.peers),
            "segments": ("segments", self.segments),
            "engagement": ("engagement", self.engagement),
            "addresses": ("addresses", self._address_table),
            "windows": ("windows-table", self._windows_table),
        }

    def _changes_table(self) -> pd.DataFrame:
        return self._kept("changes-table", lambda _: self.compare())

    def _losses_table(self) -> pd.DataFrame:
        return self._kept("losses-table", lambda _: self.losses())

    def _windows_table(self) -> pd.DataFrame:
        import pandas as pd

        spans = {name: getattr(self.windows, name) for name in ("recent", "reference", "long")}
        rows = [(name, pd.Timestamp(w.start), pd.Timestamp(w.end), w.days) for name, w in spans.items()]
        return self._kept("windows-table", lambda _: pd.DataFrame(rows, columns=["window", "first", "last", "days"]))

    # -- one page, one query ---------------------------------------------------------------------------------------------------------------

    def page(self, address: str) -> dict[str, Any]:
        """Everything about one page: its row (`page`), the `windows`, its `change` in parts, its `trend`, its `queries`, its `evidence`. Raises NotFoundError for a page never met."""
        from nibbet.core.tables import records

        row = records(self._row_of(address))[0]
        queries, evidence, trends = self.queries(), self.evidence(), self.trends()
        changes = self.compare(by="page")
        return {
            "page": row,
            "windows": self.windows.as_dict(),
            "change": records(changes[changes["key"] == row["page"]]),
            "trend": records(trends[trends["page"] == row["page"]]),
            "queries": queries[(queries["page"] == row["page"]) & queries["query"].notna()].drop(columns="page").reset_index(drop=True),
            "evidence": evidence[evidence["page"] == row["page"]].drop(columns="page").reset_index(drop=True),
        }

    def why(self, address: str) -> pd.DataFrame:
        """All that was looked at for one page's verdict: rule, measure, value, threshold, passed, window, source; the rules in their order.

        A rule speaks when all its figures passed; the first that speaks decides. Raises NotFoundError for a page never met.
        """
        return self._pipeline.decisions.why(str(self._row_of(address)["page"].iloc[0]))

    def verdict_of(self, address: str) -> pd.DataFrame:
        """The verdict of one page, as a frame of one row with the columns of `verdicts`; all null for an address that has none."""
        row = self._row_of(address)
        return row[["page", "verdict", "cause", "target", "gain", "gain_low", "gain_high", "confidence", "because", "also"]].reset_index(
            drop=True
        )

    def _row_of(self, address: str) -> pd.DataFrame:
        """The row of the ledger for an address in any spelling."""
        import pandas as pd

        from nibbet.core.address import Home, fold

        pages = self.pages()
        met = self.addresses
        known = met[met["spelling"] == address]["page"].dropna()
        own = self.config.site
        home = Home(own.home, tuple(own.hosts), tuple(own.tracking), tuple(own.old_hosts))
        wanted = known.iloc[0] if len(known) else fold(pd.DataFrame({"spelling": [address], "source": ["search"]}), home)["page"].iloc[0]
        rows: pd.DataFrame = pages[pages["page"] == wanted]
        if rows.empty and isinstance(wanted, str):
            other = wanted.rstrip("/") if wanted.endswith("/") else wanted + "/"
            rows = pages[pages["page"] == other]
        if rows.empty:
            paths = pages["page"].str.replace(r"^https?://[^/]+", "", regex=True)
            close = _close(address, paths) or ' List them with: nibbet sql "SELECT page FROM pages"'
            raise NotFoundError(f"No source knows the page {address}.{close}")
        return rows

    def query(self, text: str) -> pd.DataFrame:
        """All pages of one query, the owner first. Raises NotFoundError for a query never met."""
        wanted, pairs = " ".join(text.lower().split()), self.queries()
        rows = pairs[pairs["query"] == wanted]
        if rows.empty:
            close = _close(wanted, pairs["query"].dropna()) or ' List them with: nibbet sql "SELECT query FROM query_totals"'
            raise NotFoundError(f'No search row has the query "{text}" in the recent window.{close}')
        order = rows["role"].map({"owner": 0, "rival": 1, "passing": 2, "stray": 3})
        return (
            rows.assign(order=order)
            .sort_values(["order", "impressions"], ascending=[True, False])
            .drop(columns="order")
            .reset_index(drop=True)
        )

    def say(self, step: str) -> None:
        """Tell what is being done."""
        self._say(step)

    def share(self) -> float | None:
        """How much of what the engine works on right now is done, 0..1; None where that is not known."""
        return self._pipeline.context.engines.share() if "_pipeline" in self.__dict__ else None

    # -- out -----------------------------------------------------------------------------------------------------------------------------

    def write(self, folder: str | Path | None = None) -> list[Path]:
        """Write every file of the analysis into `folder` (default: out/ of the workspace), each whole or not at all; returns their paths."""
        from nibbet.render.files import write_all

        return write_all(self, Path(folder) if folder is not None else self.root / "out")

    def close(self) -> None:
        """Note what was read, and give everything back: the engine, its memory and its folders. Tables that were handed out stay; what is asked
        afterwards is looked up or computed again.
        """
        self._comparisons.clear()
        pipeline = self.__dict__.pop("_pipeline", None)
        if pipeline is not None:
            pipeline.close()
        if pipeline is not None or self._store.changed:
            self._store.save()
        self._store.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _type_name(kind: Any) -> str:
    """The type of a column in words."""
    text = str(kind)
    for start, word in (("timestamp", "day"), ("date", "day"), ("int", "whole number"), ("uint", "whole number"), ("bool", "yes or no")):
        if text.startswith(start):
            return word
    return "number" if text.startswith(("double", "float", "decimal")) else "text"


def _close(text: str, among: pd.Series | list[str]) -> str:
    import difflib

    known = among if isinstance(among, list) else among.unique().tolist()[:50_000]
    close = difflib.get_close_matches(text, known, 3, 0.6)
    return f" Did you mean {' or '.join(close)}?" if close else ""


__all__ = ["Site", "open_site"]
