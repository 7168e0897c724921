"""What every stage shares: settings, store, engines, and progress messages."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pandas as pd

from nibbet.core.windows import Windows
from nibbet.engine import AnyEngine, Engine, Store, open_engines
from nibbet.engine.store import key_of
from nibbet.once import limit_threads, once
from nibbet.scopes import RESULTS, SUMS, scope, values_of

if TYPE_CHECKING:
    import ibis

    from nibbet.config import Config


@dataclass(frozen=True, eq=False)
class Engines:
    """The engines of one site, opened on first use: the local one, and the one that computes (often the same)."""

    settings: Config
    root: Path
    store: Store

    @once
    def pair(self) -> tuple[Engine, AnyEngine]:
        """The local engine and the one that computes."""
        settings = self.settings.engine
        limit_threads(settings.threads)
        self.store.at_work()
        return open_engines(settings.backend, memory=settings.memory, threads=settings.threads, root=self.root)

    @property
    def opened(self) -> list[AnyEngine]:
        """Each open engine, once."""
        return list(dict.fromkeys(self.pair)) if "pair" in vars(self) else []

    def share(self) -> float | None:
        """Progress of the local engine, 0 to 1; None where unknown."""
        return self.pair[0].share() if self.opened else None

    def interrupt(self) -> None:
        """Interrupts the engines."""
        for engine in self.opened:
            engine.interrupt()

    def close(self) -> None:
        """Releases the engines' memory and spill folders."""
        for engine in self.opened:
            engine.close()


@dataclass(frozen=True, eq=False)
class Context:
    """The environment of a pipeline.

    settings: all of nibbet.toml; stages read only the parts `config` and `sum_settings`, which enter the keys of stored results. frames:
    sources given as tables. key: the digest of everything that the sums of the engine depend on, under which they are stored.
    """

    settings: Config
    root: Path
    frames: Mapping[str, Any]
    store: Store
    key: str
    say: Callable[[str], None]
    engines: Engines

    @once
    def config(self) -> Config:
        """The settings that results depend on."""
        return scope(self.settings, RESULTS)

    @once
    def sum_settings(self) -> Config:
        """The settings that the sums of rows depend on."""
        return scope(self.settings, SUMS)

    @property
    def engine(self) -> AnyEngine:
        """The engine that computes."""
        return self.engines.pair[1]

    def at(self, windows: Windows) -> Context:
        """The same environment, with keys for sums in other windows."""
        return replace(self, key=key_of(self.key, windows.as_dict()))

    def kept(self, name: str, make: Callable[[], pd.DataFrame]) -> pd.DataFrame:
        """A frame that depends on all settings of results, from the store if it is there."""
        return self.store.frame(name, key_of(self.key, values_of(self.settings, RESULTS)), make)

    def table(self, name: str, make: Callable[[], ibis.Table]) -> ibis.Table:
        """A table of the engine, from the store if it is there."""
        return self.store.table(self.engine, name, self.key, make)

    def fetch(self, name: str, make: Callable[[], ibis.Table]) -> pd.DataFrame:
        """The rows of a table of the engine as a frame, from the store if they are there."""
        return self.store.fetched(self.engine, name, self.key, make)
