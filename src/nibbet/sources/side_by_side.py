"""Windows side by side in one table, one set of measures for each: split into a table for each window."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from nibbet.kinds import MEASURES, TABLES, Column
from nibbet.sources.header_words import header_score, words_of
from nibbet.sources.periods import Period, full_years, period_beside, period_in, without_period
from nibbet.sources.sheets import Sheet

#: words of columns with a change between windows, which is redundant
CHANGE_WORDS = set(
    "difference diff change delta growth variation trend veranderung unterschied differenz entwicklung ecart evolution difference cambio diferencia variacion "
    "variazione differenza verschil verandering skillnad forandring endring roznica zmiana".split()
)
#: words of the current window
CURRENT_WORDS = set("current recent now this latest aktuell aktueller jetzt actuel actuelle actual attuale huidig nuvarande".split())
#: further measures of a window, besides those that are summed
BESIDE = {"search": ("position",), "landings": ("engaged_share", "single_page_share", "seconds_each")}
#: how well a header must name a measure to belong to a window
NAMED = 0.55


def windows_apart(sheet: Sheet, kind: str, periods: Sequence[Period] = ()) -> list[Sheet]:
    """The sheet for each window in its headers, with its period where known; the sheet as it is if there is only one.

    Args:
        periods: the periods of the windows from left to right, from the settings.
    """
    if (header := full_years(sheet.header)) != sheet.header:
        sheet = replace(sheet, header=header)
    if kind == "demand":
        return _months_apart(sheet)
    if kind not in MEASURES:
        return [sheet]
    windows, changes = _windows(sheet, kind, len(periods))
    if len(windows) < 2 and not any(isinstance(window, tuple) for window in windows):
        return [sheet]
    everywhere = {place for places in windows.values() for place in places}
    main = next((window for window in windows if isinstance(window, tuple)), None) or (periods[0] if periods else sheet.period)
    apart = []
    for number, (window, places) in enumerate(windows.items()):
        period = window if isinstance(window, tuple) else None
        if number < len(periods):
            period = periods[number]
        elif period is None:
            words = set(str(window).split())
            period = sheet.period if not words or words <= CURRENT_WORDS else period_beside(sorted(words), main) if main else None
        suffix = f" [{period[0]}..{period[1]}]" if period else f" [{window or number + 1}]"
        header = [_bare(cell, window) if place in places else cell for place, cell in enumerate(sheet.header)]
        apart.append(
            replace(
                sheet,
                name=sheet.name + suffix,
                header=header,
                hidden=sheet.hidden | frozenset((everywhere - places) | changes),
                period=period,
                files=[(name + suffix, digest + suffix if digest else "") for name, digest in sheet.files],
            )
        )
    return apart


def _months_apart(sheet: Sheet) -> list[Sheet]:
    """A table of searches with a column for each month as one table a month; a column of means is redundant."""
    months = {place: period for place, cell in enumerate(sheet.header) if (period := period_in(cell)) is not None}
    if len(months) < 2:
        return [sheet]
    volume = next(column for column in TABLES["demand"] if column.name == "volume")
    means = {place for place, cell in enumerate(sheet.header) if place not in months and header_score(cell, volume) >= NAMED}
    first = min(months)  # the other columns are used once
    rest = {place for place, cell in enumerate(sheet.header) if place not in months and header_score(cell, TABLES["demand"][0]) < NAMED}
    return [
        replace(
            sheet,
            notes=sheet.notes if place == first else (),
            name=f"{sheet.name} [{period[0]:%Y-%m}]",
            header=["volume" if other == place else cell for other, cell in enumerate(sheet.header)],
            hidden=sheet.hidden | means | (months.keys() - {place}) | (rest if place != first else set()),
            period=period,
            files=[(f"{name} [{period[0]:%Y-%m}]", f"{digest} [{period[0]:%Y-%m}]" if digest else "") for name, digest in sheet.files],
        )
        for place, period in months.items()
    ]


def _windows(sheet: Sheet, kind: str, count: int) -> tuple[dict[Period | str, set[int]], set[int]]:
    """The places of each window, by its period or its words, and the places of changes between them.

    Args:
        count: how many windows the settings name; so many columns of a measure are windows, whatever their words.
    """
    measures = [column for column in TABLES[kind] if column.name in (*MEASURES[kind], *BESIDE[kind])]
    changes = {
        place
        for place, cell in enumerate(sheet.header)
        if CHANGE_WORDS & set(words_of(cell)) and any(header_score(without_period(cell), column) >= 0.4 for column in measures)
    }
    dated = {
        place: period
        for place, cell in enumerate(sheet.header)
        if (period := period_in(cell)) is not None and place not in changes and any(c.isalpha() for c in without_period(cell))
    }
    if dated:
        result: dict[Period | str, set[int]] = {}
        for place, period in dated.items():
            result.setdefault(period, set()).add(place)
        return result, changes
    tagged: dict[str, dict[str, int]] = {}
    for place, cell in enumerate(sheet.header):
        if place in changes or place in sheet.hidden:
            continue
        for column in measures:
            if header_score(cell, column) >= NAMED:
                tag = " ".join(words_beside(cell, column))
                tagged.setdefault(column.name, {}).setdefault(tag, place)
                break
    several = {name: tags for name, tags in tagged.items() if len(tags) > 1}
    tags = list(dict.fromkeys(tag for of_measure in several.values() for tag in of_measure))
    counts = [name for name in several if name in MEASURES[kind]]
    known = [tag for tag in tags if not tag or _tells_window(tag)]
    lone = [column.name for column in measures if column.required and len(tagged.get(column.name, ())) == 1]
    if lone or not counts or (len(known) != len(tags) and len(tags) != count) or len(tags) < 2:
        return {}, set()
    places: dict[Period | str, set[int]] = {tag: {of_measure[tag] for of_measure in tagged.values() if tag in of_measure} for tag in tags}
    for place, cell in enumerate(sheet.header):  # rates of a window without a column of their own
        for tag in tags:
            if tag and not any(place in columns for columns in places.values()) and set(tag.split()) <= set(words_of(cell)):
                places[tag].add(place)
    return dict(places), changes


def _tells_window(tag: str) -> bool:
    """Whether additional words of a measure describe a window, not another measure ("clicks from ads")."""
    from datetime import date

    words = tag.split()
    return bool(set(words) & CURRENT_WORDS) or period_beside(words, (date(2026, 1, 1), date(2026, 1, 31))) is not None


def words_beside(cell: str, column: Column) -> list[str]:
    """The words of a header that do not name the column."""
    have = words_of(cell)
    phrases = sorted((words_of(words) for words in (column.name.replace("_", " "), *column.words)), key=len, reverse=True)
    for phrase in phrases:
        if phrase and {word.rstrip("s") for word in phrase} <= {word.rstrip("s") for word in have}:
            named = {word.rstrip("s") for word in phrase}
            return sorted(word for word in have if word.rstrip("s") not in named and word != "period")
    return sorted(have)


def _bare(cell: str, window: Period | str) -> str:
    """A header without the words of its window."""
    if isinstance(window, tuple):
        return without_period(cell)
    words = set(window.split()) | {"period"}
    return " ".join(word for word in words_of(cell) if word not in words) if window else cell
