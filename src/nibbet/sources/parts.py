"""A measure in several columns of one table: one for each device, channel or part, or a total beside its parts."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import replace

import numpy as np

from nibbet.errors import SourceError
from nibbet.kinds import MEASURES, TABLES, Column
from nibbet.sources.header_words import header_score, words_of
from nibbet.sources.profile import DEVICES
from nibbet.sources.sheets import Sheet
from nibbet.sources.side_by_side import CHANGE_WORDS, NAMED, words_beside
from nibbet.sources.value_words import CHANNEL

#: measures of which a table must not be read in part
_MAIN = {"search": ("clicks", "impressions"), "landings": ("sessions",)}
#: words of the column for all parts, and of a part that is all but another
_ALL = set(
    "total totals all overall sum sums grand combined gesamt alle insgesamt summe tous toutes totale tutti todos todas suma totaal alla samtliga".split()
)
#: words that do not restrict clicks and impressions of search results
_OF_SEARCH = set("web organic search seo unpaid results organisch organique organico suche recherche".split())
_WITHOUT = set("non not without no ohne nicht sans hors sin senza zonder utan nonbrand nonbranded".split())


def parts_apart(sheet: Sheet, kind: str, given: Collection[str] = ()) -> list[Sheet]:
    """The sheet for each part in its headers (`Clicks (mobile)`, `Paid sessions`), with the device or channel in `shared`; the sheet without its
    parts where a column has a total that is not theirs; the sheet as it is if there is one column for each measure.

    Args:
        given: the columns that the settings name; who names one of these measures has chosen.
    Raises:
        SourceError: several columns may be clicks, impressions or sessions, and neither adding them up nor one of them is surely right.
    """
    if kind not in _MAIN or set(_MAIN[kind]) & set(given):
        return [sheet]
    places, changes = _places(sheet, kind)
    if changes:
        sheet = replace(sheet, hidden=sheet.hidden | changes)
    several = {name: places[name] for name in _MAIN[kind] if len(places.get(name, ())) > 1}
    if not several:
        return [sheet]
    whole_words = _ALL | _OF_SEARCH if kind == "search" else _ALL
    totals = {name: next((tag for tag in tags if set(tag.split()) <= whole_words), None) for name, tags in several.items()}
    if all(tag is not None for tag in totals.values()) and not _add_up(sheet, kind, several, totals):
        parts = {place for name, tags in several.items() if totals[name] for tag, place in tags.items() if tag != totals[name]}
        return [replace(sheet, hidden=sheet.hidden | parts)] if parts else [sheet]
    parted = {name: {tag: place for tag, place in tags.items() if tag != totals[name]} for name, tags in several.items()}
    name, tags = max(parted.items(), key=lambda item: len(item[1]))
    beside: set[int] = set()  # totals of these parts, and parts of another total
    for other, of_tags in several.items():
        total = totals[other]
        kept = parted[other] if total is None or set(parted[other]) == set(tags) else {total: of_tags[total]}
        beside |= set(of_tags.values()) - set(kept.values())
        places[other] = kept
    if (shared := _dimension(kind, list(tags))) is None:
        heads = [sheet.header[place] for place in tags.values()]
        raise SourceError(
            f"{sheet.name}: {', '.join(repr(head) for head in heads[:4])} may each be its {name}. Say which in its [[source]]: "
            f'columns = {{ {name} = "{heads[0]}" }}; or, if they are windows, their days from left to right: '
            "period = [[2026-08-03, 2026-10-31], [2025-08-03, 2025-10-31]]"
        )
    split = {place for of_tags in places.values() if len(of_tags) > 1 and set(of_tags) & set(tags) for place in of_tags.values()}
    lone = {place for name, of_tags in places.items() if name in MEASURES[kind] for place in of_tags.values()} - split
    whole = [name for name in _MAIN[kind] if len(places.get(name, ())) == 1]  # counts once, so that no part has it to itself
    result = []
    for number, (tag, column) in enumerate(zip(tags, shared, strict=True)):
        own = {of_tags[tag]: name for name, of_tags in places.items() if tag in of_tags}
        suffix = f" [{tag}]"
        result.append(
            replace(
                sheet,
                name=sheet.name + suffix,
                header=[own.get(place, cell) for place, cell in enumerate(sheet.header)],
                hidden=sheet.hidden | beside | (split - set(own)) | (lone if number else set()),
                shared=(*sheet.shared, *(() if whole else column), *((name, "0") for name in whole if number)),
                notes=sheet.notes if not number else (),
                files=[(file + suffix, digest + suffix if digest else "") for file, digest in sheet.files],
            )
        )
    return result


def _add_up(sheet: Sheet, kind: str, several: dict[str, dict[str, int]], totals: dict[str, str | None]) -> bool:
    """Whether the columns beside a total are its devices or channels, and add up to it in the rows of the sample."""
    for name, tags in several.items():
        parts = [tag for tag in tags if tag != totals[name]]
        if len(parts) < 2 or not all(_dimension(kind, parts) or [()]):
            return False
        sums = sum(np.nan_to_num(sheet.profiles[tags[tag]].numbers) for tag in parts)
        if (np.abs(sums - sheet.profiles[tags[totals[name] or ""]].numbers) > 0.5).mean() > 0.02:
            return False
    return True


def _places(sheet: Sheet, kind: str) -> tuple[dict[str, dict[str, int]], set[int]]:
    """By measure, the places of its columns by the other words of their headers; and the places of changes of one that has a column."""
    columns = TABLES[kind]
    result: dict[str, dict[str, int]] = {}
    changes: dict[int, str] = {}
    for place, cell in enumerate(sheet.header):
        best: Column = max(columns, key=lambda column, cell=cell: header_score(cell, column))  # type: ignore[misc]
        if CHANGE_WORDS & set(words_of(cell)):
            changes[place] = best.name
            continue
        is_count = sheet.profiles[place].number > 0.9 and not sheet.profiles[place].percent and place not in sheet.hidden
        if is_count and best.name in (*MEASURES[kind], "position") and header_score(cell, best) >= NAMED:
            result.setdefault(best.name, {}).setdefault(" ".join(words_beside(cell, best)), place)
    return result, {place for place, name in changes.items() if name in result}


def _dimension(kind: str, tags: list[str]) -> list[tuple[tuple[str, str], ...]] | None:
    """What all rows of each part share: its device or channel, or nothing where one part is all but the other; None where that is unknown."""
    devices = [next((word for word in tag.split() if word in DEVICES), "") for tag in tags]
    if all(devices):
        return [(("device", device),) for device in devices]
    if kind == "landings" and all(re.search(CHANNEL, tag) for tag in tags):
        return [(("channel", tag),) for tag in tags]
    first, *others = sorted((set(tag.split()) for tag in tags), key=len)
    stem = next(iter(first), "")
    return [(), ()] if len(others) == 1 and others[0] & _WITHOUT and any(stem in word for word in others[0]) else None
