"""Which settings each step may read: these determine the keys of stored results, and reading any other is an error."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, cast

from pydantic import BaseModel

from nibbet.config import Config

#: settings that the sums of rows depend on: which files, which address is which page, what counts when
SUMS = (
    *(f"site.{name}" for name in ("home", "hosts", "more_hosts", "old_hosts", "brand", "as_of", "tracking", "surfaces")),
    "source",
    *(f"windows.{name}" for name in ("recent", "reference", "long", "counted_since")),
    "value.currency",
    "value.rates",
    "engine.backend",
    "limits",
)
#: settings that verdicts and all other tables depend on; memory and threads do not affect results
RESULTS = (
    "site",
    "source",
    "windows",
    "protect",
    "purpose",
    "groups",
    "queries",
    "topics",
    "about",
    "value",
    "verdicts",
    "engine.backend",
    "limits",
)


class Scope:
    """A part of the settings with the same interface; a setting that is not among `names` raises AttributeError."""

    def __init__(self, settings: BaseModel, names: Iterable[str]) -> None:
        self._settings, self._names = settings, tuple(names)

    def __getattr__(self, name: str) -> Any:
        value = getattr(self._settings, name)
        if name in self._names:
            return value
        if inner := [rest for first, dot, rest in (one.partition(".") for one in self._names) if dot and first == name]:
            return Scope(value, inner)
        raise AttributeError(f"this step may not read the setting {name}: what it keeps is not named by it")

    def values(self) -> dict[str, Any]:
        """The settings of this part, by name, as plain values."""
        whole = self._settings.model_dump()
        return {name: _at(whole, name) for name in self._names}


def scope(config: Config, names: Iterable[str]) -> Config:
    """The settings that a step may read; its code sees the same interface."""
    return cast("Config", Scope(config, names))


def values_of(config: Config, names: Iterable[str]) -> dict[str, Any]:
    """The content of a key: the settings `names` as plain values."""
    return Scope(config, names).values()


def _at(whole: dict[str, Any], name: str) -> Any:
    for part in name.split("."):
        whole = whole[part]
    return whole
