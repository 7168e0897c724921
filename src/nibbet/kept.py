"""Output tables by name, from the store or else from the pipeline; and questions in SQL over them."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from nibbet.config import KINDS, Config, make_config
from nibbet.engine.store import Store, key_of, program
from nibbet.errors import NotFoundError
from nibbet.scopes import RESULTS, SUMS, values_of
from nibbet.sources.files import find_files, name_in, small_neighbours
from nibbet.tables import ROW_TABLES, TABLES

if TYPE_CHECKING:
    import pandas as pd
    import pyarrow as pa

    from nibbet.core.windows import Windows
    from nibbet.pipeline import Pipeline

Say = Callable[[str], None]


class KeptTables:
    """The tables of one site, each computed once for equal sources, settings and program."""

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
        can_last = not self._frames and all(source.table is None for source in config.source)  # whether equal sources can be recognised
        self._store = store if can_last and store is not None else Store(None)

    @cached_property
    def _sources_key(self) -> str:
        """The digest of the program, of every file, and of the settings that sums depend on."""
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
        """An output table, from the store if it is there."""
        return self._store.frame(name, self._result_key, lambda: make(self._pipeline))

    @cached_property
    def _result_key(self) -> str:
        return key_of(self._sources_key, values_of(self.config, RESULTS))

    def __repr__(self) -> str:
        return f"<Site {self.config.site.home}>"

    def table(self, name: str) -> pd.DataFrame:
        """An output table by its name: see `nibbet.tables`. Raises NotFoundError for an unknown name."""
        if name not in TABLES:
            raise NotFoundError(f"There is no table {name}.{close_names(name, list(TABLES))} Tables: {', '.join(TABLES)}.")
        return self._kept(f"table-{name}", TABLES[name].make)

    @property
    def windows(self) -> Windows:
        """The recent, reference and long window."""
        from nibbet.core.windows import Windows

        def make() -> dict[str, Any]:
            return self._pipeline.inputs.windows.as_dict()

        return Windows.from_dict(self._store.value("windows", self._sources_key, make))

    def _row_of(self, address: str) -> pd.DataFrame:
        """The row of the ledger for an address in any spelling."""
        import pandas as pd

        from nibbet.core.join.address import Home, fold

        pages = self.table("pages")
        spellings = self.table("addresses")
        known = spellings[spellings["spelling"] == address]["page"].dropna()
        home = Home.of(self.config.site)
        wanted = known.iloc[0] if len(known) else fold(pd.DataFrame({"spelling": [address], "source": ["search"]}), home)["page"].iloc[0]
        rows: pd.DataFrame = pages[pages["page"] == wanted]
        if rows.empty and isinstance(wanted, str):
            other = wanted.rstrip("/") if wanted.endswith("/") else wanted + "/"
            rows = pages[pages["page"] == other]
        if rows.empty:
            paths = pages["page"].str.replace(r"^https?://[^/]+", "", regex=True)
            close = close_names(address, paths) or ' List them with: nibbet sql "SELECT page FROM pages"'
            raise NotFoundError(f"No source knows the page {address}.{close}")
        return rows

    # -- questions -----------------------------------------------------------------------------------------------------------------------

    def sql(self, statement: str, **values: Any) -> pd.DataFrame:
        """The result of a SELECT over the tables of the site (`sql_tables` lists them); `values` are bound to $name.

        Raises NotFoundError for anything but one SELECT on those tables.
        """
        from nibbet.engine.sql import answer, names_in

        wanted, known = names_in(statement), [*TABLES, *ROW_TABLES]
        if strange := sorted(wanted - set(known)):
            raise NotFoundError(f"There is no table {strange[0]}.{close_names(strange[0], known)} See: nibbet sql --tables")
        files = {name: self._table_file(name) for name in sorted(wanted)}
        return answer(statement, files, values, memory=self.config.engine.memory)

    def sql_tables(self) -> pd.DataFrame:
        """The tables for `sql`: one row per column: table, column, type, meaning."""
        import pandas as pd

        from nibbet.core.meanings import COLUMN_MEANINGS

        rows = []
        for name, meaning in {**{name: one.holds for name, one in TABLES.items()}, **ROW_TABLES}.items():
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
        """The columns of a table for SQL, without computing tables of rows."""
        import pyarrow.parquet as pq

        if name in TABLES or self._store.has(f"sql-{name}", self._sources_key):
            return pq.read_schema(self._table_file(name))
        return self._pipeline.questions.table(name).schema().to_pyarrow()

    def _table_file(self, name: str) -> Path:
        """The file of a table for SQL; written if it is not there."""
        if name in TABLES:
            if not self._store.has(f"table-{name}", self._result_key):
                self.table(name)
            return self._store.path(f"table-{name}", self._result_key)
        if name in KINDS and name not in self._kinds:
            raise NotFoundError(f"The site has no source of the kind {name}. It has: {', '.join(self._kinds)}.")
        if not self._store.has(f"sql-{name}", self._sources_key):
            self._pipeline.questions.keep(name)
        return self._store.path(f"sql-{name}", self._sources_key)

    def say(self, step: str) -> None:
        """Reports the current step."""
        self._say(step)

    def share(self) -> float | None:
        """Progress of the current query of the engine, 0 to 1; None where unknown."""
        return self._pipeline.context.engines.share() if "_pipeline" in self.__dict__ else None

    def close(self) -> None:
        """Saves the manifest, and releases the engine, its memory and its folders. Returned tables stay valid; later results
        are looked up or computed again.
        """
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


def close_names(text: str, among: pd.Series | list[str]) -> str:
    """A sentence with similar names; empty for none."""
    import difflib

    known = among if isinstance(among, list) else among.unique().tolist()[:50_000]
    close = difflib.get_close_matches(text, known, 3, 0.6)
    return f" Did you mean {' or '.join(close)}?" if close else ""
