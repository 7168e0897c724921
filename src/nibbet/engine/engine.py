"""Ibis on embedded DuckDB: opens it, reads files, keeps named tables, and translates its errors."""

from __future__ import annotations

import inspect
import threading
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nibbet.errors import SourceError, is_interrupt
from nibbet.once import in_turn
from nibbet.passing import Passing

if TYPE_CHECKING:
    import ibis
    import pandas as pd


#: bytes of one record; the reader keeps two such buffers per thread
LONGEST_LINE = 12_000_000


#: columns with the name and the number of the file of each row, which no file has
FILE, PART = "nibbet_file", "nibbet_number_of_file"


class Engine:
    """An open engine with its own spill folder, deleted on close."""

    def __init__(self, *, memory: str = "4GB", threads: int | None = None, database: Path | None = None, shared: bool = False) -> None:
        """database: a DuckDB file whose tables can be named, opened read-only. shared: whether other engines read what is written."""
        import ibis

        self._parquet = "v1" if shared else "v2"  # the second version has number encodings that Spark does not read
        self._passing, self._database = Passing(), database
        self.spill = self._passing.path
        options: dict[str, Any] = {"memory_limit": memory, "temp_directory": str(self.spill), "preserve_insertion_order": False}
        if threads:
            options["threads"] = threads
        try:
            self.connection = ibis.duckdb.connect(**options)
            self.connection.con.execute("SET enable_progress_bar = true; SET enable_progress_bar_print = false")  # for share()
            if database is not None:
                self.connection.attach(database, "given", read_only=True)
        except Exception as fault:
            self._passing.close()
            raise SourceError(f"The engine did not open: {fault}. Mend [engine] in nibbet.toml.") from None
        self._names, self.turn = 0, threading.RLock()

    def close(self) -> None:
        """Releases memory and the spill folder."""
        self.connection.disconnect()
        self._passing.close()

    def interrupt(self) -> None:
        """Interrupts the current query; called from another thread."""
        self.connection.con.interrupt()

    def share(self) -> float | None:
        """Progress of the current query, 0 to 1; None where unknown. Called from another thread."""
        try:
            done = float(self.connection.con.query_progress())
        except Exception:  # closed, or between two queries
            return None
        return done / 100 if 0 < done < 100 else None

    @in_turn
    def delimited(
        self,
        paths: Sequence[Path],
        columns: dict[str, str],
        *,
        delimiter: str,
        quote: str,
        skip: int,
        lenient: bool,
        days: str = "",
        mark: str = ".",
    ) -> ibis.Table:
        """Delimited UTF-8 files of one shape as a table: columns (name -> engine type), one row per record after the first `skip`, and
        part: the number of the file. A cell that does not fit its type is an error when the table is computed.

        Args:
            days: the format of days for `strptime`, "" for ISO; mark: the decimal mark.
        """
        names = [self._linked(path) for path in paths]
        table = self.connection.read_csv(
            names,
            table_name=self._fresh("file"),
            columns=columns,
            auto_detect=False,
            header=False,
            delim=delimiter,
            quote=quote,
            escape=quote,
            skip=skip,
            null_padding=lenient,
            strict_mode=not lenient,
            parallel=not lenient,
            max_line_size=LONGEST_LINE,
            buffer_size=2 * LONGEST_LINE,
            filename=len(paths) > 1,
            decimal_separator=mark,
            **({"dateformat": days} if days else {}),
        )
        if len(paths) == 1:
            return table.mutate(part=0)
        return self._numbered(table, "filename", names, "part")

    def _numbered(self, table: ibis.Table, file: str, names: Sequence[str], number: str) -> ibis.Table:
        """The rows of several files with the number of their file in place of its name."""
        return table.join(self.frame({file: list(names), number: list(range(len(names)))}), file).drop(file)

    def _linked(self, path: Path) -> str:
        """A path of the file that the engine takes literally: absolute, unique, and without special characters of patterns."""
        link = self.spill / f"{self._fresh('input')}{path.suffix}"
        try:
            link.symlink_to(path.absolute())
        except (OSError, NotImplementedError):  # a system without links
            return str(path.absolute())
        return str(link)

    @in_turn
    def lines(self, path: Path) -> ibis.Table:
        """The lines of a text file: one column, line."""
        return self.connection.read_csv(
            self._linked(path),
            table_name=self._fresh("file"),
            columns={"line": "VARCHAR"},
            auto_detect=False,
            header=False,
            delim="\x1f",
            quote="",
            escape="",
            skip=0,
            strict_mode=False,
            max_line_size=LONGEST_LINE,
            buffer_size=2 * LONGEST_LINE,
        )

    @in_turn
    def parquet(self, paths: Sequence[Path]) -> ibis.Table:
        """Parquet files of one shape as a table."""
        return self.connection.read_parquet([self._linked(path) for path in paths], table_name=self._fresh("file"))

    @in_turn
    def series(self, paths: Sequence[Path]) -> ibis.Table:
        """Parquet files of one shape as a table, with PART, the number of the file of each row."""
        names = [self._linked(path) for path in paths]
        table = self.connection.read_parquet(names, table_name=self._fresh("file"), filename=FILE)
        return self._numbered(table, FILE, names, PART)

    @in_turn
    def json_lines(self, path: Path) -> ibis.Table:
        """A file of one JSON object a line."""
        return self.connection.read_json(self._linked(path), table_name=self._fresh("file"), format="newline_delimited", sample_size=-1)

    @in_turn
    def frame(self, frame: Any) -> ibis.Table:
        """A pandas, Polars or Arrow table as a table of the engine; an Ibis table as it is."""
        import ibis

        if isinstance(frame, ibis.Table):
            return frame
        name = self._fresh("frame")
        self.connection.con.register(name, as_arrow(frame))
        return self.connection.table(name)

    @in_turn
    def table(self, name: str) -> ibis.Table:
        """A table in the engine. Raises SourceError for an unknown name."""
        place = None if self._database is None else ("given", "main")
        known = self.connection.list_tables(database=place)
        if name not in known:
            raise SourceError(f'table = "{name}": the engine has no such table. It has: {", ".join(known) or "none"}.')
        return self.connection.table(name, database=place)

    def key(self, text: Any) -> Any:
        """A number for each text, null for none; from two hashes, because similar texts of some lengths collide in one."""
        import ibis

        # the declared type of `xor` differs from its real one: otherwise the cast is omitted, and mixed signs make numbers twice as wide
        number, both = engine_function("hash", ["string"], "uint64"), engine_function("xor", ["uint64", "uint64"], "decimal(20,0)")
        half = both(number(text) >> 1, number(ibis.literal(":") + text) >> 1).cast("int64")
        return ibis.cases((text.notnull(), half), else_=ibis.null("int64"))

    @in_turn
    def view(self, table: ibis.Table) -> ibis.Table:
        """The same table under a name, so that queries on it need not repeat its definition."""
        name = self._fresh("view")
        self.connection.raw_sql(f'CREATE TEMP VIEW "{name}" AS {self.connection.compile(table)}')
        return as_meant(self.connection.table(name), table)

    @in_turn
    def keep(self, table: ibis.Table) -> ibis.Table:
        """The table, computed once and kept as a Parquet file in the spill folder, to free memory."""
        path = self.spill / f"{self._fresh('kept')}.parquet"
        self.write(table, path)
        return self.connection.read_parquet(str(path), table_name=path.stem)

    @in_turn
    def write(self, table: ibis.Table, path: Path) -> None:
        """Computes the table and writes it as a Parquet file."""
        try:
            self.connection.to_parquet(table, path, compression="lz4_raw", parquet_version=self._parquet)
        except Exception as fault:
            raise _ours(fault) from fault

    @in_turn
    def fetch(self, table: ibis.Table) -> pd.DataFrame:
        """The rows of an aggregated table as a pandas frame."""
        try:
            result: pd.DataFrame = table.to_pandas()
        except Exception as fault:
            raise _ours(fault) from fault
        return result

    def _fresh(self, word: str) -> str:
        self._names += 1
        return f"nibbet_{word}_{self._names}"


def as_meant(there: ibis.Table, meant: ibis.Table) -> ibis.Table:
    """A named table with the types of its expression: those of an engine may differ, such as a day plus a week, which some make a time."""
    kinds = meant.schema()
    other = {name: kinds[name] for name in kinds.names if there.schema()[name].copy(nullable=True) != kinds[name].copy(nullable=True)}
    return there.cast(other) if other else there


def engine_function(name: str, given: Sequence[str], kind: str) -> Any:
    """A function of the engine by its name, with the Ibis types of its arguments and result."""
    import ibis

    def function(*values):  # type: ignore[no-untyped-def]
        """The result of the engine."""

    function.__signature__ = inspect.Signature([inspect.Parameter(f"v{n}", inspect.Parameter.POSITIONAL_ONLY) for n in range(len(given))])  # type: ignore[attr-defined]
    return ibis.udf.scalar.builtin(function, name=name, signature=(tuple(given), kind))


def as_arrow(frame: Any) -> Any:
    """A frame of any library that speaks Arrow as an Arrow table: with the named levels of its index as columns, computed if it is lazy;
    columns without a type become text.
    """
    import pandas as pd
    import pyarrow as pa

    try:
        if isinstance(frame, pd.DataFrame) and (named := [name for name in frame.index.names if name is not None and name not in frame]):
            frame = frame.reset_index(level=named)
        elif not hasattr(frame, "__arrow_c_stream__") and hasattr(frame, "collect"):
            frame = frame.collect()
        table = pa.Table.from_pandas(frame, preserve_index=False) if isinstance(frame, pd.DataFrame) else pa.table(frame)
    except (pa.ArrowException, TypeError, ValueError) as fault:
        raise SourceError(
            f"A frame of {type(frame).__name__} cannot be read as a table: {_first_line(fault)}. Give a pandas, Polars, Arrow or Ibis table."
        ) from None
    text = [pa.field(field.name, pa.string()) if pa.types.is_null(field.type) else field for field in table.schema]
    return table.cast(pa.schema(text))


def _ours(fault: Exception) -> BaseException:
    """The engine's error about the data as a SourceError, and an interrupted query as an interrupt; any other unchanged."""
    import duckdb

    if is_interrupt(fault):
        return KeyboardInterrupt()
    if isinstance(fault, duckdb.OutOfMemoryException):
        return SourceError(f"The engine ran out of memory: {_first_line(fault)}. Raise memory in [engine] of nibbet.toml.")
    if isinstance(fault, (duckdb.InvalidInputException, duckdb.IOException, duckdb.ConversionException)):
        return SourceError(f"A file could not be read: {_first_line(fault)}")
    return fault


def _first_line(fault: Exception) -> str:
    return str(fault).strip().splitlines()[0]
