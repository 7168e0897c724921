"""Which settings each step may read: what is kept is named by exactly those, and reading any other is a fault."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, cast

from pydantic import BaseModel

from nibbet.config import Config

#: settings on which the sums of rows rest: what is read, which address is which page, what is counted when
SUMS = (
    *(f"site.{name}" for name in ("home", "hosts", "more_hosts", "old_hosts", "brand", "as_of", "tracking", "surfaces")),
    "source",
    *(f"windows.{name}" for name in ("recent", "reference", "long")),
    "value.currency",
    "value.rates",
    "engine.backend",
    "limits",
)
#: settings on which verdicts and all other tables rest; memory and threads change no result
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
    """A part of the settings, read like the whole; a setting that is not among `names` raises AttributeError."""

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
    """The settings that a step may read; to its code they look like all."""
    return cast("Config", Scope(config, names))


def values_of(config: Config, names: Iterable[str]) -> dict[str, Any]:
    """What a key is made of: the settings `names` as plain values."""
    return Scope(config, names).values()


def _at(whole: dict[str, Any], name: str) -> Any:
    for part in name.split("."):
        whole = whole[part]
    return whole
