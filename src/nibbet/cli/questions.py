"""Saved questions in SQL: those shipped with Nibbet, and those in the folder questions/ of the workspace."""

from __future__ import annotations

import re
from importlib.resources import files
from pathlib import Path
from typing import Any

import pandas as pd

from nibbet.errors import NotFoundError

NAME = r"[\w-]+"


def find(folder: Path, question: str) -> str:
    """The statement of the saved question with that name, else the text itself.

    Raises NotFoundError for an unknown name.
    """
    bare = question.strip()
    if not re.fullmatch(NAME, bare):
        return question
    known = _known(folder)
    if bare not in known:
        raise NotFoundError(f"There is no question {bare}. Known: {', '.join(sorted(known))}. Or give a SELECT.")
    try:
        return str(known[bare].read_text("utf-8"))
    except (OSError, UnicodeDecodeError) as fault:
        raise NotFoundError(f"{known[bare]}: cannot be read as UTF-8 text ({fault}). Save it again.") from None


def listed(folder: Path) -> pd.DataFrame:
    """The saved questions: name, what it answers (the comment in its first line), origin."""
    rows = []
    for name, path in sorted(_known(folder).items()):
        first = path.read_text("utf-8", "replace").splitlines()[:1]
        asks = first[0].removeprefix("--").strip() if first and first[0].startswith("--") else ""
        rows.append((name, asks, "workspace" if isinstance(path, Path) and path.is_relative_to(folder / "questions") else "nibbet"))
    return pd.DataFrame(rows, columns=["question", "asks", "kept"])


def _known(folder: Path) -> dict[str, Any]:
    """Name -> file; questions of the workspace take precedence."""
    shipped = {entry.name.removesuffix(".sql"): entry for entry in (files("nibbet") / "questions").iterdir() if entry.name.endswith(".sql")}
    return {**shipped, **{path.stem: path for path in sorted((folder / "questions").glob("*.sql"))}}


def bound(settings: list[str]) -> dict[str, Any]:
    """NAME=VALUE texts as values by name. Raises NotFoundError for a text without both."""
    from nibbet.engine.sql import value_of

    pairs = [setting.partition("=") for setting in settings]
    for name, mark, value in pairs:
        if not mark or not re.fullmatch(r"[A-Za-z_]\w*", name):
            raise NotFoundError(f"--set {name}{mark}{value}: write it as --set name=value.")
    return {name: value_of(value) for name, _, value in pairs}
