"""A site for Python users: its output tables, their display, and the files they are written to."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date
from functools import cached_property
from pathlib import Path
from typing import Any

from nibbet.config import load_config
from nibbet.engine.store import Store
from nibbet.errors import ConfigError
from nibbet.grounds import Grounds
from nibbet.results import Results

Say = Callable[[str], None]


def open_site(folder: str | Path = ".", *, as_of: date | str | None = None, protect: Sequence[str] = (), say: Say = lambda _: None) -> Site:
    """The site with the settings in `folder`/nibbet.toml; its cache is `folder`/.nibbet.

    as_of: the last day that counts, such as "2026-10-31"; protect: patterns of pages that are never removed or merged away, in addition to
    those of the settings.
    Raises ConfigError when there are no settings or they are invalid.
    """
    root = Path(folder)
    config = load_config(root / "nibbet.toml")
    if as_of is not None:
        config = config.model_copy(update={"site": config.site.model_copy(update={"as_of": _day(as_of)})})
    if protect:
        kept = config.protect.model_copy(update={"pages": [*config.protect.pages, *protect]})
        config = config.model_copy(update={"protect": kept})
    return Site(config=config, root=root, store=Store(root / ".nibbet", say), say=say)


def _day(given: date | str) -> date:
    try:
        return date.fromisoformat(given if isinstance(given, str) else given.strftime("%Y-%m-%d"))
    except ValueError:
        raise ConfigError(f'as_of = "{given}" is no day. Write it as 2026-10-31.') from None


class Account(dict[str, Any]):
    """The account of the join; a notebook shows it as a table."""

    def _repr_html_(self) -> str:
        from nibbet.render.notebook import account_html

        return account_html(self)


class Site(Results, Grounds):
    """One site: its sources joined by page, its measures, query map and verdicts, each computed on first use.

    From frames: Site(home="https://tarnbrook.example/", search=frame, landings=frame, ...) takes pandas, Polars, Arrow and Ibis tables and
    paths of files, or lists of them; `settings` holds further tables of nibbet.toml, such as {"protect": {"pages": ["/legal/*"]}}.
    """

    @cached_property
    def account(self) -> Account:
        """The account of the join: per source rows and measures read = used + set aside; the share matched; notes with a code."""
        return Account(super().account)

    def _repr_html_(self) -> str:
        from nibbet.render.notebook import site_html

        return site_html(self)

    def write(self, folder: str | Path | None = None) -> list[Path]:
        """Write every output file into `folder` (default: out/ of the workspace), each completely or not at all; returns their paths."""
        from nibbet.render.files import write_all

        return write_all(self, Path(folder) if folder is not None else self.root / "out", self.briefs)


__all__ = ["Site", "open_site"]
