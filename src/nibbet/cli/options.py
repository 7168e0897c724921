"""Options that commands share, and their values."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer
import typer.core


class Form(StrEnum):
    """How tables are printed."""

    table = "table"
    csv = "csv"
    json = "json"


class Hardness(StrEnum):
    """How clear the planted cases of a demo are."""

    easy = "easy"
    usual = "usual"
    hard = "hard"


class Exports(StrEnum):
    """The shapes of the search and visits exports of a demo."""

    daily = "daily"
    monthly = "monthly"
    undated = "undated"
    sidebyside = "sidebyside"
    screens = "screens"
    service = "service"


class Counted(StrEnum):
    """The measure by which changes are ordered."""

    clicks = "clicks"
    impressions = "impressions"


class Dimension(StrEnum):
    """Dimensions of searches and visits."""

    device = "device"
    country = "country"
    surface = "surface"
    channel = "channel"
    source = "source"


class Rise(StrEnum):
    """Levels that can rise or fade."""

    query = "query"
    topic = "topic"


class Level(StrEnum):
    """Levels of comparison."""

    site = "site"
    section = "section"
    group = "group"
    brand = "brand"
    device = "device"
    country = "country"
    surface = "surface"
    channel = "channel"
    source = "source"
    topic = "topic"
    page = "page"
    moved_page = "moved page"
    query = "query"


Folder = Annotated[Path | None, typer.Argument(metavar="[FOLDER]", help="The workspace. Defaults to the current folder.")]
SiteFolder = Annotated[Path | None, typer.Option("--site", metavar="FOLDER", help="The workspace, as an option.")]
Format = Annotated[Form, typer.Option("--format", help="How to print tables.")]
Where = Annotated[
    str | None, typer.Option("--where", metavar="CONDITION", help='Only rows that meet it, such as "clicks > 100 and position > 10".')
]
Top = Annotated[int | None, typer.Option("--top", metavar="N", min=1, help="Print the first N rows.")]
AsOf = Annotated[
    str | None, typer.Option("--as-of", metavar="DATE", help="Last day to count, such as 2026-10-31. Defaults to the last complete day.")
]
Quiet = Annotated[bool, typer.Option("-q", "--quiet", help="No progress.")]
Verbose = Annotated[bool, typer.Option("-v", "--verbose", help="Print every step and its duration.")]
