"""Opens the site of a command, and selects rows of a table."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from nibbet.errors import NibbetError

if TYPE_CHECKING:
    from datetime import date

    import pandas as pd

    from nibbet.site import Site


Result = TypeVar("Result")


def with_site(
    folder: Path | None,
    site_folder: Path | None,
    quiet: bool,
    verbose: bool,
    task: Callable[[Site], Result],
    *,
    as_of: str | None = None,
    protect: Sequence[str] = (),
) -> Result:
    """Opens the workspace, runs the task, closes everything; returns the result of the task."""
    from nibbet.cli.progress import Progress
    from nibbet.site import open_site

    progress = Progress(quiet=quiet, verbose=verbose)
    site = open_site(folder or site_folder or Path(), as_of=day_of(as_of), protect=protect, say=progress)
    progress.share = site.share
    try:
        return task(site)
    finally:
        progress.done()
        site.close()


def day_of(text: str | None) -> date | None:
    """The date of an option; None if it was not given. Raises NibbetError for anything but YYYY-MM-DD."""
    from datetime import date

    if text is None:
        return None
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise NibbetError(f"--as-of {text} is not a date. Write it as 2026-10-31.") from None


def chosen_rows(frame: pd.DataFrame, where: str | None, top: int | None) -> pd.DataFrame:
    """The rows that meet a condition, the first `top` of them. Raises NibbetError for an invalid condition."""
    from nibbet.core.tables import NARROWED
    from nibbet.engine.sql import rows_where

    kept = frame if where is None else rows_where(frame, where)
    if kept.empty and not frame.empty:
        kept.attrs[NARROWED] = True  # so that no message says that the sources are empty
    return kept if top is None else kept.head(top)


def harmless(text: str) -> str:
    """A text for the error stream, without escape codes."""
    from nibbet.render.safe import for_terminal

    return "\n".join(for_terminal(line) for line in text.splitlines())
