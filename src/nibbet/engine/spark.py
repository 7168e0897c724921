"""The same interface on Spark: a local session of its own, or the active one."""

from __future__ import annotations

import threading
import uuid
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nibbet.engine.engine import as_arrow, as_meant, engine_function
from nibbet.errors import SourceError
from nibbet.once import in_turn
from nibbet.passing import Passing

if TYPE_CHECKING:
    import ibis
    import pandas as pd


#: the mark of a closed engine
CLOSED = ""
#: sessions started here -> number of open engines in each, of which the last stops it, and its spill folder
_STARTED: dict[Any, tuple[int, Passing]] = {}


class SparkEngine:
    """As Engine, for tables in Spark and Parquet files; only aggregated tables are fetched.

    A session is shared by all its users, so names and jobs carry a mark of the engine that made them.
    """

    def __init__(self, *, memory: str = "4GB", threads: int | None = None) -> None:
        try:
            import ibis
            from pyspark.sql import SparkSession

            ibis.pyspark  # noqa: B018 - asked for before the session starts, which takes a while
        except (ImportError, AttributeError):
            raise SourceError('backend = "pyspark" needs: pip install "nibbet[spark]"') from None
        self._passing = Passing()
        self.spill = self._passing.path
        known = SparkSession.getActiveSession()
        local = None if known else Passing()
        session = known or (
            SparkSession.builder.appName("nibbet")
            .config("spark.driver.memory", memory.lower().removesuffix("b"))
            .config("spark.sql.session.timeZone", "UTC")
            .config("spark.sql.shuffle.partitions", str(threads or 8))
            .config("spark.ui.enabled", "false")
            .config("spark.ui.showConsoleProgress", "false")
            .config("spark.log.level", "ERROR")
            .config("spark.sql.execution.arrow.pyspark.enabled", "true")
            .config("spark.local.dir", str(local and local.path))
            .master(f"local[{threads or '*'}]")
            .getOrCreate()
        )
        if local is not None:
            session.sparkContext.setLogLevel("ERROR")
            _STARTED[session] = (1, local)
        elif session in _STARTED:
            users, local = _STARTED[session]
            _STARTED[session] = (users + 1, local)
        self.session = session
        self.connection = ibis.pyspark.connect(session)
        self._mark, self._names, self._views, self.turn = uuid.uuid4().hex[:12], 0, list[str](), threading.RLock()

    def close(self) -> None:
        """Drops the tables of this engine; stops the session if it was started here and no other engine uses it."""
        if self._mark == CLOSED:
            return
        self._mark = CLOSED
        users, local = _STARTED.get(self.session, (0, self._passing))
        if users == 1:
            del _STARTED[self.session]
            self.session.stop()
            local.close()
        else:
            if users:
                _STARTED[self.session] = (users - 1, local)
            for name in self._views:
                self.session.catalog.uncacheTable(name)
                self.session.catalog.dropTempView(name)
        self._passing.close()

    def interrupt(self) -> None:
        """Cancels the jobs of this engine; called from another thread."""
        self.session.sparkContext.cancelJobGroup(self._mark)

    @in_turn
    def parquet(self, paths: Sequence[Path]) -> ibis.Table:
        """Parquet files of one shape as a table."""
        return self._view(self.session.read.parquet(*[str(path) for path in paths]))

    @in_turn
    def frame(self, frame: Any) -> ibis.Table:
        """A pandas, Polars or Arrow table as a table of the engine; an Ibis table as it is."""
        import ibis
        import pyarrow.parquet as pq

        if isinstance(frame, ibis.Table):
            return frame
        path = self.spill / f"{self._fresh()}.parquet"  # through a file: the socket of the session is slow and loses unsigned numbers
        pq.write_table(as_arrow(frame), path, coerce_timestamps="us")
        return self.parquet([path])

    @in_turn
    def table(self, name: str) -> ibis.Table:
        """A table that the engine already holds. Raises SourceError where there is none of that name."""
        known = self.connection.list_tables()
        if name not in known:
            raise SourceError(f'table = "{name}": the engine has no such table. It has: {", ".join(known) or "none"}.')
        return self.connection.table(name)

    def key(self, text: Any) -> Any:
        """A number for each text, null for none."""
        import ibis

        return ibis.cases((text.notnull(), engine_function("xxhash64", ["string"], "int64")(text)), else_=ibis.null("int64"))

    @in_turn
    def view(self, table: ibis.Table) -> ibis.Table:
        """The same table under a name, so that queries on it need not repeat its definition."""
        return as_meant(self._view(self.session.sql(self.connection.compile(table))), table)

    @in_turn
    def keep(self, table: ibis.Table) -> ibis.Table:
        """The table, computed once and cached by Spark."""
        return self._view(self.session.sql(self.connection.compile(table)).cache())

    @in_turn
    def write(self, table: ibis.Table, path: Path) -> None:
        """Computes an aggregated table and writes it as a local Parquet file."""
        import pyarrow.parquet as pq

        pq.write_table(self._fetched(table), path, compression="lz4")

    @in_turn
    def fetch(self, table: ibis.Table) -> pd.DataFrame:
        """The rows of an aggregated table as a pandas frame."""
        result: pd.DataFrame = self._fetched(table).to_pandas()
        return result

    def _fetched(self, table: ibis.Table) -> Any:
        self.session.sparkContext.setJobGroup(self._mark, "nibbet", interruptOnCancel=True)
        try:
            return self.connection.to_pyarrow(table)
        except Exception as fault:
            if type(fault).__module__.startswith("pyspark"):
                message = str(fault).strip().splitlines()[0]
                raise SourceError(f"Spark could not compute a table: {message}") from fault
            raise

    def _view(self, frame: Any) -> ibis.Table:
        name = self._fresh()
        frame.createOrReplaceTempView(name)
        self._views.append(name)
        return self.connection.table(name)

    def _fresh(self) -> str:
        self._names += 1
        return f"nibbet_{self._mark}_{self._names}"
