"""Nibbet joins search, analytics and crawl data by page, and decides page by page what to do, with reasons."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from nibbet._version import __version__
from nibbet.errors import ConfigError, MissingColumnError, NibbetError, NotFoundError, SourceError

if TYPE_CHECKING:
    from nibbet.render import figures
    from nibbet.render.notebook import styled
    from nibbet.site import Site, open_site

__all__ = [
    "ConfigError",
    "MissingColumnError",
    "NibbetError",
    "NotFoundError",
    "Site",
    "SourceError",
    "__version__",
    "figures",
    "open_site",
    "styled",
]


def __getattr__(name: str) -> Any:
    if name in ("Site", "open_site"):
        from nibbet import site

        return getattr(site, name)
    if name == "styled":
        from nibbet.render.notebook import styled

        return styled
    if name == "figures":
        import importlib

        return importlib.import_module("nibbet.render.figures")
    raise AttributeError(f"module 'nibbet' has no attribute {name!r}")
