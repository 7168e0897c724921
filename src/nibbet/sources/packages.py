"""The tables of an archive, a workbook or a folder, and what they say about each other."""

from __future__ import annotations

import contextlib
from dataclasses import replace
from datetime import date
from pathlib import Path

from nibbet.errors import SourceError
from nibbet.sources.conventions import day_of_text
from nibbet.sources.files import Plain, small_neighbours
from nibbet.sources.header_words import words_of
from nibbet.sources.read import read_sheets
from nibbet.sources.sheets import Sheet, delimited
from nibbet.sources.surroundings import is_settings, settings_lines, with_periods

#: headers of a column with source and medium
SOURCE_WORDS, MEDIUM_WORDS = {"source", "quelle", "fuente", "fonte", "bron", "origine"}, {"medium", "medio", "mezzo", "support"}


def tables_of(plains: list[Plain]) -> tuple[list[Sheet], list[tuple[str, str]]]:
    """The tables in the plain files of one package, and notes of those that have none. Raises SourceError where no file has any."""
    sheets: list[Sheet] = []
    faults: list[SourceError] = []
    for plain in plains:
        try:
            sheets += read_sheets(plain)
        except SourceError as fault:
            faults.append(fault)
    if not sheets and faults:
        raise faults[0]
    return sheets, [("left_out", f"left out: {fault}") for fault in faults]


def with_surroundings(sheets: list[Sheet], package: list[Sheet], folder_settings: list[str]) -> list[Sheet]:
    """The sheets with the period given by their package: its tables of settings, or the days of a dated table in it."""
    lines = [line for sheet in package if is_settings(sheet) for line in settings_lines(sheet)]
    return with_periods(sheets, lines or folder_settings, _dated(package))


def _dated(package: list[Sheet]) -> tuple[date, date] | None:
    """The period covered by the only small table of days in a package."""
    spans = set()
    for sheet in package:
        if sheet.column is None or is_settings(sheet):
            continue
        place = next((n for n, seen in enumerate(sheet.profiles) if seen.date > 0.95), None)
        if place is None or sheet.profiles[place].distinct < 0.99:
            continue
        try:
            days = [day for day in day_of_text(sorted(set(sheet.column(place))), where=sheet.name, header="").values() if day]
        except SourceError:
            continue
        if len(days) > 6:
            spans.add((min(days), max(days)))
    return spans.pop() if len(spans) == 1 else None


def settings_beside(path: Path, known: dict[Path, list[str]]) -> list[str]:
    """The lines of small tables of settings in the folder of a file."""
    if path.parent not in known:
        lines: list[str] = []
        for other in small_neighbours(path.parent):
            with contextlib.suppress(OSError, UnicodeDecodeError, SourceError):
                text = other.read_text("utf-8-sig")
                plain = Plain(other.name, "", other.suffix, len(text), text, "", lambda other=other: other)  # type: ignore[misc]
                lines += [line for sheet in delimited(plain) if is_settings(sheet) for line in settings_lines(sheet)]
        known[path.parent] = lines
    return known[path.parent]


def combined_apart(sheet: Sheet, kind: str) -> Sheet:
    """A column with source and medium, separated by a slash, as two."""
    if kind != "landings":
        return sheet
    for place, header in enumerate(sheet.header):
        words = set(words_of(header))
        if place in sheet.hidden or not words & (SOURCE_WORDS | MEDIUM_WORDS):
            continue
        if sheet.profiles[place].combined < 0.6 or sheet.profiles[place].address > 0.5:
            continue
        wider = sheet.with_columns(
            ["source", "medium"],
            lambda row, place=place: [row[place].partition(" / ")[0].strip(), row[place].partition(" / ")[2].strip()],  # type: ignore[misc]
            lambda table, place=place: [table[f"c{place}"].split(" / ")[0].strip(), table[f"c{place}"].split(" / ")[1].strip()],  # type: ignore[misc]
        )
        return replace(wider, hidden=wider.hidden | {place})
    return sheet
