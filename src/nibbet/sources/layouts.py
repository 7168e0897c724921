"""Tables laid out otherwise: a name that stands only above its rows, one row for each measure, one row for each session; remade into plain rows."""

from __future__ import annotations

import csv
from collections.abc import Callable, Iterator
from dataclasses import replace
from itertools import islice
from typing import TYPE_CHECKING, Any

import pandas as pd

from nibbet.kinds import MEASURES, TABLES
from nibbet.sources.by_values import IDENTIFIERS
from nibbet.sources.header_words import NAMED, header_score, words_of
from nibbet.sources.sheets import SESSIONS_BY_ROW, Cells, Sheet
from nibbet.sources.value_words import TOTAL_WORDS, YES_WORDS

if TYPE_CHECKING:
    import ibis

    from nibbet.engine import Engine

#: least share of blank cells under a name that stands for the rows below it
LEAST_BLANK = 0.2
#: words of headers for one session, and for whether it converted
SESSION_WORDS = frozenset("session visit sitzung besuch seance visite sesion visita sessione sessie bezoek sessao besok sesja wizyta".split())
CONVERTED_WORDS = frozenset(
    "converted conversion purchase purchased ordered order subscribed booked registered bought goal konvertiert gekauft bestellt gebucht converti achete reserve "
    "convertido comprado reservado convertito acquistato prenotato geconverteerd gekocht".split()
)
#: rows of a sample from which the layout is judged
LEAST_ROWS = 8
#: columns of rows that count something, for which a row of its own may stand
_COUNTS = [column for kind in MEASURES for column in TABLES[kind] if column.type in ("count", "number", "place")]


def in_plain_rows(sheet: Sheet) -> Sheet:
    """The sheet with the names of outlines in each of their rows, with a column for each measure, and with what a row counts that is one session;
    as it is if it is plain.
    """
    return _sessions_counted(_measures_beside(_names_repeated(sheet)))


def _sessions_counted(sheet: Sheet) -> Sheet:
    """Where a column holds the number or key of a session, another in each row: the sheet with one session a row, and its conversions."""
    words = [set(words_of(header)) for header in sheet.header]
    seen, shown = sheet.profiles, [place for place in range(len(words)) if place not in sheet.hidden]
    ids = [n for n in shown if words[n] & SESSION_WORDS and words[n] & IDENTIFIERS and seen[n].distinct == 1 and seen[n].filled == seen[n].rows]
    if len(ids) != 1 or seen[ids[0]].rows < LEAST_ROWS or not any(seen[n].address > 0.8 for n in shown):
        return sheet
    flags = [n for n in shown if seen[n].yes_no and words[n] & CONVERTED_WORDS]

    def cells(row: list[str]) -> list[str]:
        return ["1", *(str(int(row[n].strip().casefold() in YES_WORDS)) for n in flags[:1])]

    def exprs(table: ibis.Table) -> list[Any]:
        import ibis

        converted = [table[f"c{n}"].cast("string").strip().lower().isin(sorted(YES_WORDS)) for n in flags[:1]]
        return [ibis.literal("1"), *(yes.fill_null(False).cast("int64").cast("string") for yes in converted)]

    wider = sheet.with_columns(["sessions", *["conversions" for _ in flags[:1]]], cells, exprs)
    note = (SESSIONS_BY_ROW, f'{sheet.name}: each row is one session, since "{sheet.header[ids[0]]}" is another in each.')
    return replace(wider, hidden=wider.hidden | {*ids, *flags}, notes=(*wider.notes, note))


def _names_repeated(sheet: Sheet) -> Sheet:
    rows = pd.DataFrame({place: [row[place].strip() or None for row in sheet.sample] for place in range(len(sheet.header))}, dtype="str")
    if len(rows) < LEAST_ROWS or not rows.isna().any(axis=None):
        return sheet
    keys = [n for n, seen in enumerate(sheet.profiles) if n not in sheet.hidden and (seen.number <= 0.9 or seen.date > 0.5)]
    above: list[int] = []  # from the outermost name to the innermost
    for place in keys:
        named = rows[above].ffill().assign(name=rows[place])[rows[place].notna()]
        blank = float(rows[place].isna().mean())
        holds = any(rows[other].isna().mean() < blank for other in keys if other > place)  # what stands below a name is filled more often
        outermost = max(sheet.profiles[place].address, sheet.profiles[place].date) > 0.6
        if holds and blank >= LEAST_BLANK and (above or outermost) and rows[place].notna().iloc[0] and not named.duplicated().any():
            above.append(place)
    inner = [place for place in keys if place not in above and rows[place].notna().mean() > 0.5]
    counts = any(_is_measure(header) for header in sheet.header)  # in a list of pages a blank day is unknown
    if (
        not above
        or not inner
        or max(above) > min(inner)
        or not counts
        or pd.concat([rows[above].ffill(), rows[inner]], axis=1).duplicated().any()
    ):
        return sheet
    names = [f"c{place}" for place in above]

    def filled(table: pd.DataFrame) -> pd.DataFrame:
        cells = table[names].astype("str").apply(lambda column: column.where(column.str.strip() != ""))
        below = table[[f"c{place}" for place in inner]].astype("str").apply(lambda column: column.str.strip().str.casefold())
        totals = below.isin(TOTAL_WORDS).any(axis=1)  # their name would count them twice
        return table.assign(**cells.groupby(table["part"]).ffill().where(~totals))

    words = ", ".join(f'"{sheet.header[place]}"' for place in above)
    return _remade(sheet, sheet.header, filled, ("outline", f"{sheet.name}: a name under {words} counts for the rows below it, too."))


def _measures_beside(sheet: Sheet) -> Sheet:
    for place in range(len(sheet.header)):
        seen = sheet.profiles[place]
        first = {row[place].strip() for row in (*sheet.sample, *sheet.last)} - {""}
        if not seen.is_text or len(first) > len(_COUNTS) or not all(map(_is_measure, first)):
            continue
        values = sorted({cell.strip() for cell in _cells(sheet, place)})
        if not 2 <= len(values) <= len(_COUNTS) or not all(map(_is_measure, values)):
            continue
        figures = [other for other in range(len(sheet.header)) if sheet.profiles[other].number > 0.9 and sheet.profiles[other].date < 0.5]
        if len(figures) == 1:
            return _beside(sheet, place, figures[0], values)
    return sheet


def _cells(sheet: Sheet, place: int) -> Iterator[str]:
    """All cells of a column, of a table in memory or of text files."""
    if sheet.column or not sheet.shapes:
        yield from sheet.column(place) if sheet.column else (row[place] for row in sheet.sample)
    for shape in () if sheet.column else sheet.shapes:
        with shape.lay().open(encoding="utf-8", errors="replace", newline="") as file:
            rows = csv.reader(islice(file, shape.skip, None), delimiter=shape.delimiter)
            yield from (row[place] for row in rows if len(row) > place)


def _beside(sheet: Sheet, place: int, figure: int, values: list[str]) -> Sheet:
    others = [other for other in range(len(sheet.header)) if other not in (place, figure)]
    keys = [f"c{other}" for other in others]

    def beside(table: pd.DataFrame) -> pd.DataFrame:
        table = table.assign(**{name: table[name].astype("str").fillna("") for name in keys}, measure=table[f"c{place}"].str.strip())
        lines = [*keys, "part"]
        table["times"] = table.groupby([*lines, "measure"], dropna=False).cumcount()  # a row that is repeated stays one of its own
        wide = table.pivot(index=[*lines, "times"], columns="measure", values=f"c{figure}").reindex(columns=values).reset_index()
        named = {name: f"c{number}" for number, name in enumerate([*keys, *values])}
        return wide.drop(columns="times").rename(columns=named).replace("", None).astype(dict.fromkeys(named.values(), "str"))

    text = f'{sheet.name}: the measures under "{sheet.header[place]}" ({", ".join(values)}) are read as columns: one row for each of them makes one.'
    return replace(_remade(sheet, [*(sheet.header[other] for other in others), *values], beside, ("measures_below", text)), shapes=())


def _is_measure(value: str) -> bool:
    return any(header_score(value, column) >= NAMED for column in _COUNTS)


def _remade(sheet: Sheet, header: list[str], change: Callable[[pd.DataFrame], pd.DataFrame], note: tuple[str, str]) -> Sheet:
    """The sheet with another header and rows: a change of the table c0, c1, ..., part."""

    def open_in(engine: Engine, cells: Cells, at: slice) -> ibis.Table:
        return engine.frame(change(engine.fetch(sheet.open(engine, Cells({}, lenient=cells.lenient), at))))

    def rows_of(rows: list[list[str]]) -> list[list[str]]:
        table = pd.DataFrame(rows, columns=[f"c{place}" for place in range(len(sheet.header))], dtype="str").assign(part=0)
        changed = change(table)[[f"c{place}" for place in range(len(header))]].astype("str").fillna("")
        return [[str(cell) for cell in row] for row in changed.to_numpy()]

    last = tuple(rows_of([list(row) for row in sheet.last])) if sheet.last else ()
    return replace(
        sheet,
        header=list(header),
        sample=rows_of(sheet.sample),
        last=last,
        open=open_in,
        shape=None,
        column=None,
        notes=(*sheet.notes, note),
    )
