"""What every stage shares: settings, store, engines, and a way to tell what is being done."""

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
from nibbet.scopes import RESULTS, SUMS, scope

if TYPE_CHECKING:
    import ibis

    from nibbet.config import Config


@dataclass(frozen=True, eq=False)
class Engines:
    """The engines of one site, opened when they are first needed: the local one, and the one that computes (often the same)."""

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
        """Each engine that is open, once."""
        return list(dict.fromkeys(self.pair)) if "pair" in vars(self) else []

    def share(self) -> float | None:
        """How much of what the local engine works on is done, 0..1; None where that is not known."""
        return self.pair[0].share() if self.opened else None

    def interrupt(self) -> None:
        """End what the engines work on."""
        for engine in self.opened:
            engine.interrupt()

    def close(self) -> None:
        """Give the engines' memory and spill folders back."""
        for engine in self.opened:
            engine.close()


@dataclass(frozen=True, eq=False)
class Context:
    """The surroundings of a pipeline.

    settings: all of nibbet.toml; stages read the parts `config` and `sum_settings`, of which the keys of what is kept are made. frames: sources
    given as tables. key: the digest of all that the sums of the engine rest on, under which the store keeps them.
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
        """The settings that results rest on."""
        return scope(self.settings, RESULTS)

    @once
    def sum_settings(self) -> Config:
        """The settings that the sums of rows rest on."""
        return scope(self.settings, SUMS)

    @property
    def engine(self) -> AnyEngine:
        """The engine that computes."""
        return self.engines.pair[1]

    def at(self, windows: Windows) -> Context:
        """The same surroundings, with keys for sums in other windows."""
        return replace(self, key=key_of(self.key, windows.as_dict()))

    def table(self, name: str, make: Callable[[], ibis.Table]) -> ibis.Table:
        """A table of the engine, from the store where it is there."""
        return self.store.table(self.engine, name, self.key, make)

    def fetch(self, name: str, make: Callable[[], ibis.Table]) -> pd.DataFrame:
        """The rows of a table of the engine as a frame, from the store where they are there."""
        return self.store.fetched(self.engine, name, self.key, make)
