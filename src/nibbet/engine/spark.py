"""The same tables on Spark: a session of its own on this machine, or the one that is already running."""

from __future__ import annotations

import shutil
import tempfile
import threading
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nibbet.engine.engine import as_arrow, as_meant, engine_function
from nibbet.errors import SourceError
from nibbet.once import in_turn

if TYPE_CHECKING:
    import ibis
    import pandas as pd


class SparkEngine:
    """As Engine, for tables that live in Spark and for Parquet files; only reduced tables come to this machine."""

    def __init__(self, *, memory: str = "4GB", threads: int | None = None) -> None:
        try:
            import ibis
            from pyspark.sql import SparkSession

            ibis.pyspark  # noqa: B018 - asked for before the session starts, which takes a while
        except (ImportError, AttributeError):
            raise SourceError('backend = "pyspark" needs: pip install "nibbet[spark]"') from None
        self.spill = Path(tempfile.mkdtemp(prefix="nibbet-"))
        self._own = SparkSession.getActiveSession() is None
        session = SparkSession.getActiveSession() or (
            SparkSession.builder.appName("nibbet")
            .config("spark.driver.memory", memory.lower().removesuffix("b"))
            .config("spark.sql.session.timeZone", "UTC")
            .config("spark.sql.shuffle.partitions", str(threads or 8))
            .config("spark.ui.enabled", "false")
            .config("spark.ui.showConsoleProgress", "false")
            .config("spark.log.level", "ERROR")
            .config("spark.sql.execution.arrow.pyspark.enabled", "true")
            .config("spark.local.dir", str(self.spill))
            .master(f"local[{threads or '*'}]")
            .getOrCreate()
        )
        if self._own:
            session.sparkContext.setLogLevel("ERROR")
        self.session = session
        self.connection = ibis.pyspark.connect(session)
        self._names, self.turn = 0, threading.RLock()

    def close(self) -> None:
        """Stop the session that was started here, and give its folder back."""
        if self._own:
            self.session.stop()
        shutil.rmtree(self.spill, ignore_errors=True)

    def interrupt(self) -> None:
        """End the jobs under way; to be called by another thread."""
        self.session.sparkContext.cancelAllJobs()

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
        path = self.spill / f"{self._fresh()}.parquet"  # by a file: the way over the session's socket is slow and loses unsigned numbers
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
        """The same table under a name: what is built on it need not spell out again how it came about."""
        return as_meant(self._view(self.session.sql(self.connection.compile(table))), table)

    @in_turn
    def keep(self, table: ibis.Table) -> ibis.Table:
        """The table computed once, kept where Spark keeps such things."""
        return self._view(self.session.sql(self.connection.compile(table)).cache())

    @in_turn
    def write(self, table: ibis.Table, path: Path) -> None:
        """A reduced table computed and written as a Parquet file of this machine."""
        import pyarrow.parquet as pq

        pq.write_table(self._fetched(table), path, compression="lz4")

    @in_turn
    def fetch(self, table: ibis.Table) -> pd.DataFrame:
        """The rows of a reduced table as a pandas frame."""
        return self._fetched(table).to_pandas()

    def _fetched(self, table: ibis.Table) -> Any:
        try:
            return self.connection.to_pyarrow(table)
        except Exception as fault:
            if type(fault).__module__.startswith("pyspark"):
                said = str(fault).strip().splitlines()[0]
                raise SourceError(f"Spark could not compute a table: {said}") from fault
            raise

    def _view(self, frame: Any) -> ibis.Table:
        name = self._fresh()
        frame.createOrReplaceTempView(name)
        return self.connection.table(name)

    def _fresh(self) -> str:
        self._names += 1
        return f"nibbet_table_{self._names}"
