"""Days that a table tells in several columns: a year and a month, or a first and a last day."""

from __future__ import annotations

import re
from dataclasses import replace
from functools import reduce
from typing import Any

from nibbet.kinds import COUNTED, DATE
from nibbet.sources.header_words import NAMED, header_score, words_of
from nibbet.sources.months import MONTHS
from nibbet.sources.periods import TO
from nibbet.sources.sheets import Sheet

#: header of the column for days that several columns tell together
DAY_OF_ROW = "day of the row"
#: by part of a day, the words of its headers without accents, and the form of its cells; months may be names too
_PARTS: dict[str, tuple[set[str], str]] = {
    "year": (set("year yr jahr annee an ano anno jaar ar aar rok vuosi ev yil год ετοσ 年 연도".split()), r"(?:19|20)\d{2}"),
    "month": (
        set("month monat mois mes mese maand manad maned mesic miesiac kuukausi honap ay месяц μηνασ 月 월".split()),
        r"0?[1-9]|1[0-2]",
    ),
    "week": (
        set("week wk woche kw semaine semana settimana vecka uke uge tyden tydzien viikko het hafta неделя εβδομαδα 週 周 주".split()),
        r"(?:W|KW|S)?\s?(?:0?[1-9]|[1-4]\d|5[0-3])",
    ),
    "quarter": (
        set(
            "quarter qtr quartal trimestre kwartaal kvartal kwartal ctvrtleti neljannes negyedev ceyrek квартал τριμηνο 四半期 季度 분기".split()
        ),
        r"[QT]?\s?[1-4]",
    ),
    "day": (set("day tag jour dia giorno dag den dzien paiva nap gun день ημερα 日 일".split()), r"0?[1-9]|[12]\d|3[01]"),
}
#: words of headers for the first and the last day of what a row counts
_FIRST = set("start from begin beginning von ab beginn anfang debut du desde inicio da dal van fran fra od poczatek alku".split())
_LAST = set("end to until till bis ende fin au hasta fim a al fine tot eind einde slut slutt til do koniec loppu".split())
#: share of the cells of a column that are days where it is one of days
MOSTLY = 0.6


def with_day_of_row(sheet: Sheet, kind: str) -> Sheet:
    """The sheet with a column DAY_OF_ROW where no column tells the days of its rows but several do together; these are hidden then."""
    if kind not in COUNTED or DAY_OF_ROW in sheet.header:
        return sheet
    days = [place for place, seen in enumerate(sheet.profiles) if place not in sheet.hidden and seen.date > MOSTLY]
    first, last = (next((place for place in days if words & set(words_of(sheet.header[place]))), None) for words in (_FIRST, _LAST))
    if first is not None and last is not None and first != last:
        return _joined(sheet, [first, last], TO)
    if any(header_score(sheet.header[place], DATE) > NAMED for place in days):
        return sheet
    known = {name: place for name in _PARTS if (place := _column_of(sheet, name)) is not None}
    part = next((name for name in ("month", "week", "quarter") if name in known), None)
    if "year" not in known or part is None:
        return sheet
    if part != "month":
        return _joined(sheet, [known["year"], known[part]], f"-{part[0].upper()}", r"\.0$|\D")
    places = [known[name] for name in ("year", "month", "day") if name in known]
    by_number = any(row[known["month"]].strip()[:1].isdigit() for row in sheet.sample)
    return _joined(sheet, places, "-") if by_number else _joined(sheet, places[::-1], " ")


def _column_of(sheet: Sheet, name: str) -> int | None:
    """The place of the column with years, quarters, months, weeks or days of a month, by its header and all cells of the sample."""
    words, form = _PARTS[name]
    for place, header in enumerate(sheet.header):
        cells = [re.sub(r"\.0$", "", row[place].strip()) for row in sheet.sample if row[place].strip()]
        if place in sheet.hidden or not cells or not words & set(words_of(header)):
            continue
        fitting = sum(bool(re.fullmatch(form, cell)) or (name == "month" and "".join(words_of(cell)) in MONTHS) for cell in cells)
        if fitting > 0.9 * len(cells):  # the others are totals
            return place
    return None


def _joined(sheet: Sheet, places: list[int], mark: str, without: str = r"\.0$|[T ]00:00(:00.*)?$") -> Sheet:
    """The sheet with the cells of some columns joined by a mark, each without a pattern."""

    def cells(row: list[str]) -> list[str]:
        texts = [re.sub(without, "", row[place].strip()) for place in places]
        return [mark.join(texts) if all(texts) else ""]

    def exprs(table: Any) -> list[Any]:
        texts = [table[f"c{place}"].cast("string").strip().re_replace(without, "") for place in places]
        return [reduce(lambda text, other: text + mark + other, texts)]

    wider = sheet.with_columns([DAY_OF_ROW], cells, exprs)
    return replace(wider, hidden=wider.hidden | set(places))
