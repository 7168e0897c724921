"""The dataframe engine behind a single interface: the only package that knows which engine runs."""

from pathlib import Path

from nibbet.engine.engine import Engine
from nibbet.engine.spark import SparkEngine
from nibbet.engine.store import Store, key_of, program
from nibbet.errors import SourceError

__all__ = ["AnyEngine", "Engine", "SparkEngine", "Store", "key_of", "open_engines", "program"]

AnyEngine = Engine | SparkEngine


def open_engines(backend: str, *, memory: str, threads: int | None, root: Path = Path()) -> tuple[Engine, AnyEngine]:
    """The engine that reads files, and the one that holds tables and aggregates rows; usually the same.

    Args:
        backend: duckdb, duckdb://FILE (a database whose tables are named in the settings, relative to `root`), or pyspark.
    Raises SourceError when it cannot be opened.
    """
    if backend.startswith("duckdb://"):
        file = root / backend.removeprefix("duckdb://")
        if not file.is_file():
            raise SourceError(f"backend = {backend!r}: there is no file {file}. Mend [engine] in nibbet.toml.")
        engine = Engine(memory=memory, threads=threads, database=file)
        return engine, engine
    engine = Engine(memory=memory, threads=threads, shared=backend == "pyspark")
    return engine, SparkEngine(memory=memory, threads=threads) if backend == "pyspark" else engine
