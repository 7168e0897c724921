"""Facts about a table from its preamble, its package and its name: its period, and values common to all rows."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

from nibbet.kinds import TABLES
from nibbet.sources.header_words import header_score
from nibbet.sources.periods import Period, period_of_lines, period_of_name
from nibbet.sources.profile import ADDRESS, DEVICES, SURFACES
from nibbet.sources.sheets import Sheet

#: most rows of a two-column table of settings
MOST_SETTINGS = 60
#: columns that may have one value for all rows
SHARED = ("page", "query", "country", "device", "surface", "channel")


def is_settings(sheet: Sheet) -> bool:
    """Whether a table is a list of settings: a name and a value in each row."""
    return (
        len(sheet.header) == 2 and len(sheet.sample) < MOST_SETTINGS and not any(p.number > 0.6 or p.address > 0.6 for p in sheet.profiles)
    )


def settings_lines(sheet: Sheet) -> list[str]:
    """The rows of a table of settings as lines."""
    return [f"{name}: {value}" for name, value in [sheet.header, *sheet.sample]]


def with_periods(sheets: Sequence[Sheet], package: Sequence[str], dated: Period | None) -> list[Sheet]:
    """The sheets with the period of undated rows, from the preamble, then from the package, then from names.

    Args:
        package: the lines of settings tables in the same file, package or folder; dated: the period of a dated table in it.
    """
    return [
        sheet
        if sheet.period is not None
        else replace(sheet, period=period_of_lines(sheet.lines) or period_of_lines(package) or dated or period_of_name(sheet.files[0][0]))
        for sheet in sheets
    ]


def shared_values(lines: Sequence[str]) -> dict[str, str]:
    """Values common to all rows, from lines of the form "name: value": a page, query, country, device, surface or channel."""
    result: dict[str, str] = {}
    columns = {column.name: column for kind in ("search", "landings") for column in TABLES[kind] if column.name in SHARED}
    for line in lines:
        name, mark, value = line.strip(" #\t").partition(":")
        value = value.strip(" \t,;\"'+=")
        if not mark or not value or value.startswith("//"):
            continue
        for column in columns.values():
            if header_score(name, column) < 0.9:
                continue
            known = {"page": ADDRESS.match(value), "device": value.casefold() in DEVICES, "surface": value.casefold() in SURFACES}
            if known.get(column.name, re.fullmatch(r"[\w\s'’-]{2,60}", value)) and value.casefold() not in (
                "all",
                "alle",
                "tous",
                "todos",
                "any",
            ):
                result.setdefault(column.name, value.casefold() if column.name in ("device", "surface") else value)
    return result


def page_of_name(name: str) -> str | None:
    """The address in the name of a file, such as "queries of tarnbrook.example_kit_dry-bag.csv"; None without one."""
    bare = re.sub(r"\.(csv|tsv|txt|xlsx?|ods|json|gz|zip)$", "", name.rsplit("/", 1)[-1], flags=re.IGNORECASE)
    match = re.search(r"([\w-]+(?:\.[\w-]+)*\.[a-z]{2,})[_/]([\w./-]+)$", bare, re.IGNORECASE)
    return f"https://{match[1]}/{match[2].strip('_').replace('_', '/')}/" if match else None
