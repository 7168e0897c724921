"""From recognised sheets to stored tables in which every row is used or set aside with a reason."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import date
from functools import partial
from typing import TYPE_CHECKING

import ibis

from nibbet.core.balanced import stacked
from nibbet.engine import key_of, program
from nibbet.errors import SourceError
from nibbet.kinds import COUNTED, MEASURES, TABLES
from nibbet.sources.cells import bare_cell
from nibbet.sources.periods import TO, span_of
from nibbet.sources.recognise import Reading
from nibbet.sources.records import exact_record_count, line_count, record_count
from nibbet.sources.rows import completed, hidden_values, opened, plain_cells, repeats, typed_rows
from nibbet.sources.sheets import LENIENT, TEXTS, Cells, Sheet

if TYPE_CHECKING:
    from collections.abc import Callable

    from nibbet.config import SourceSettings
    from nibbet.engine import AnyEngine, Store

#: columns listed in a note
MOST_UNUSED = 14
#: values of a column that are corrected one by one; columns with more are read as text
MOST_MENDS = 40
#: measures computed from a share or mean of the same row
DERIVED = {"engaged_share": "engaged_sessions", "single_page_share": "single_page_sessions", "seconds_each": "engagement_seconds"}


@dataclass
class Clean:
    """One or more files of one kind and shape: their typed rows with `part` (which file) and `aside` (null = used).

    files: name and digest of each; numbers: their places in the account, set when the sources are joined.
    """

    kind: str
    files: list[tuple[str, str]]
    table: ibis.Table
    reading: Reading
    period: tuple[date, date] | None
    numbers: list[int] = field(default_factory=list)
    notes: tuple[tuple[str, str], ...] = ()
    spellings: ibis.Table | None = None
    "Of kinds with many rows: page_key and spelling of every address in used rows."

    @property
    def measures(self) -> list[str]:
        """The measures of its kind that it has or that follow from them."""
        given = {*self.reading.matches, *(DERIVED[name] for name in self.reading.matches if name in DERIVED)}
        return [name for name in MEASURES.get(self.kind, []) if name in given]

    @property
    def undated(self) -> bool:
        """Whether its rows have no date, only a period."""
        return self.period is not None

    @property
    def grain(self) -> str:
        """The subject of a row: page, query, pair of both, or site; conversions for visits without sessions, which are added to others."""
        has = self.reading.matches
        if self.kind == "landings" and "sessions" not in has:
            return "conversions"
        return "pair" if {"page", "query"} <= set(has) else "page" if "page" in has else "query" if "query" in has else "site"


@dataclass(frozen=True)
class Place:
    """Where sources are cleaned: the engine that reads them, the store for their rows, and the words of the brand."""

    engine: AnyEngine
    store: Store
    brand: tuple[str, ...] = ()


def clean(place: Place, sheet: Sheet, reading: Reading, settings: SourceSettings) -> list[Clean]:
    """The sheet as a typed table with all columns of its kind (null where the sheet lacks one), `undated` and `aside`; where its rows tell
    periods, as one for each of them.

    Stored rows are not read again; the number of records of its files is checked. Raises SourceError for ambiguous dates,
    for an unclosed quote, and where records were lost.
    """
    notes = (*sheet.notes, *_doubts(sheet, reading))
    period = sheet.period if "date" not in reading.matches and reading.kind in COUNTED else None
    try:
        table, spellings, hidden = _kept(place, sheet, reading, settings)
    except SourceError as fault:
        raise _of_file(sheet, fault) from None
    named = [(code, f"{sheet.name}: {text}") for code, text in hidden]
    result = Clean(reading.kind, sheet.files, table, reading, period, notes=(*notes, *named), spellings=spellings)
    return _periods_apart(place.engine, sheet, result)


#: periods in the rows of one table above which they are no windows
MOST_PERIODS = 60


def _periods_apart(engine: AnyEngine, sheet: Sheet, whole: Clean) -> list[Clean]:
    """The rows of each period, if the days of a row are a period; those that are set aside are with the first."""
    day = whole.reading.matches.get("date")
    if day is None or not any(TO in row[day.place] or span_of(row[day.place]) for row in (*sheet.sample, *sheet.last)):
        return [whole]
    rows = whole.table
    known = engine.fetch(rows.filter(rows.aside.isnull(), rows.undated).select("start", "date").distinct()).sort_values(["date", "start"])
    if len(known) > MOST_PERIODS:
        raise SourceError(
            f'{sheet.name}: its column "{day.header}" holds {len(known)} periods, which are no windows. Export it by day, week or month.'
        )
    reading = replace(whole.reading, matches={name: match for name, match in whole.reading.matches.items() if name != "date"})
    parts: list[Clean] = []
    for first, last in zip(known["start"].dt.date, known["date"].dt.date, strict=True):
        chosen = (rows.start == first) & (rows.date == last)
        table = rows.filter(rows.aside.notnull() | chosen.fill_null(False) if not parts else rows.aside.isnull() & chosen)
        suffix = f" [{first}..{last}]"
        files = [(name + suffix, digest + suffix if digest else "") for name, digest in whole.files]
        notes = whole.notes if not parts else ()
        parts.append(
            replace(whole, files=files, table=table, reading=reading, period=(first, last), notes=notes, spellings=_spellings(table))
        )
    return parts or [whole]


Read = tuple[ibis.Table, ibis.Table | None, list[tuple[str, str]]]


def _kept(place: Place, sheet: Sheet, reading: Reading, settings: SourceSettings) -> Read:
    """The rows of the sheet from the store, read first if they are not there; their spellings; notes that need all rows."""
    how = (place.brand, [(m.column, m.place) for m in reading.matches.values()], settings.model_dump(exclude={"files"}))

    def key(at: slice) -> str:
        return key_of(
            program(), how, sheet.shape, sheet.period, sheet.days[at], sorted(sheet.hidden), [digest for _, digest in sheet.files[at]]
        )

    whole = key(slice(None))
    if not all(digest for _, digest in sheet.files):
        rows, hidden = _as_text(place, sheet, reading, settings)
        table = completed(place.engine.keep(rows), reading, sheet.period, settings.organic)
        return table, _spellings(table), hidden
    if (cells := plain_cells(sheet, reading, settings)) and not place.store.has("text", whole):
        try:
            return _in_portions(place, sheet, reading, settings, cells, lambda at: key_of(cells, key(at)))
        except LostRecordsError:
            raise
        except SourceError:
            pass  # a cell further down differs from the sample: read all as text

    def make(cells: Cells = TEXTS) -> ibis.Table:
        rows, result = _as_text(place, sheet, reading, settings, cells)
        place.store.value("hidden", whole, lambda: result)  # before the rows: whoever finds the rows finds the notes too
        return rows

    try:
        table = place.store.table(place.engine, "text", whole, make)
    except SourceError:
        if sheet.shape is None or sheet.shape.lenient:
            raise
        table = place.store.table(place.engine, "text", whole, lambda: make(LENIENT))  # a row further down has more or fewer cells
    _whole(place, sheet, table, "text", whole, slice(None))
    odd = place.store.value("odd", whole, lambda: repeats(place.engine, table, sheet, reading))
    table = completed(table, reading, sheet.period, settings.organic)
    return table, _spellings(table), [(code, text) for code, text in [*place.store.value("hidden", whole, list), *odd]]


def _in_portions(place: Place, sheet: Sheet, reading: Reading, settings: SourceSettings, cells: Cells, key: Callable[[slice], str]) -> Read:
    """Files whose cells the engine can type while parsing, portion by portion, so that a new file costs only its own size.

    Where there is a text among the days, such as in a row of totals, days are read as texts in the order found in the sample.
    """
    low, loose = _few_values(reading, settings), False
    odd: list[list[str]] = []
    texts, habits = cells.with_days_as_text(), settings.model_copy(update={"dates": settings.dates or cells.order})

    def read(at: slice, name: str, cells: Cells, settings: SourceSettings) -> ibis.Table:
        def make() -> ibis.Table:
            raw = opened(place.engine, sheet, reading, cells, at)
            return typed_rows(place.engine, place.brand, raw, sheet, reading, settings, as_is=low)

        table = place.store.table(place.engine, name, key(at), make)
        mends = place.store.value(f"mends-{name}", key(at), lambda: _mends(place.engine, table, low))
        _whole(place, sheet, table, name, key(at), at)
        odd.extend(place.store.value(f"odd-{name}", key(at), lambda: repeats(place.engine, table, sheet, reading)))
        return completed(_mended(table, mends), reading, sheet.period, settings.organic)

    parts, spellings = [], []
    for at in sheet.portions:
        as_text = place.store.has("dated", key(at)) or (loose and not place.store.has("rows", key(at)))
        try:
            table = read(at, "dated", texts, habits) if as_text else read(at, "rows", cells, settings)
        except LostRecordsError:
            raise
        except SourceError:
            if as_text or texts.types == cells.types:
                raise
            loose, table = True, read(at, "dated", texts, habits)
        if (result := _spellings(table)) is not None:
            spellings.append(place.store.table(place.engine, "spellings-met", key(at), partial(_same, result)))
        parts.append(table.mutate(part=(table.part + at.start).cast("int32")) if at.start else table)
    notes = [(code, text) for code, text in odd]
    return stacked(parts), stacked(spellings).distinct() if len(spellings) > 1 else spellings[0] if spellings else None, notes


class LostRecordsError(SourceError):
    """The number of rows read from a file differs from its number of records."""


def check_records(engine: AnyEngine, sheet: Sheet, table: ibis.Table, at: slice) -> int:
    """Number of records in the text files of a sheet, counted separately; raises LostRecordsError if it differs from the rows read.

    Args:
        table: the rows read of the files `at`, with part where there are several.
    """
    shapes, names = sheet.shapes[at], [name for name, _ in sheet.files[at]]
    if not shapes:
        return 0
    rows = table.group_by(part=table.part if "part" in table.columns else ibis.literal(0)).aggregate(rows=table.count())
    read = engine.fetch(rows).set_index("part")["rows"].reindex(range(len(shapes)), fill_value=0)
    for number, (shape, name) in enumerate(zip(shapes, names, strict=True)):
        path, lone, given = shape.lay(), len(shape.header) == 1, int(read[number])
        if line_count(path) - shape.skip == given or record_count(path, skip=shape.skip, blank_is_row=lone) == given:
            continue
        records, unclosed = exact_record_count(path, skip=shape.skip, delimiter=shape.delimiter, blank_is_row=lone)
        if unclosed is not None:
            raise LostRecordsError(
                f"{name}: a quote opens on line {unclosed} and nothing closes it, so that all behind it reads as one cell. Mend that line."
            )
        if records != given:
            raise LostRecordsError(
                f"{name}: {records:,} records stand in the file and {given:,} were read. Save it again as plain CSV in UTF-8; if that changes nothing, "
                "please report it."
            )
    return int(read.sum())


def _whole(place: Place, sheet: Sheet, table: ibis.Table, name: str, key: str, at: slice) -> None:
    """Checks the records of a stored table once; an incomplete one is removed."""
    try:
        place.store.value(f"records-{name}", key, lambda: check_records(place.engine, sheet, table, at))
    except LostRecordsError:
        place.store.forget(name, key)
        raise


def _of_file(sheet: Sheet, fault: SourceError) -> SourceError:
    """The error with the file it belongs to: the engine names only lines."""
    if isinstance(fault, LostRecordsError) or any(name in str(fault) for name, _ in sheet.files) or sheet.name in str(fault):
        return fault
    for shape, (name, _) in zip(sheet.shapes, sheet.files, strict=False):
        _, unclosed = exact_record_count(shape.lay(), skip=shape.skip, delimiter=shape.delimiter, blank_is_row=len(shape.header) == 1)
        if unclosed is not None:
            return SourceError(
                f"{name}: a quote opens on line {unclosed} and nothing closes it, so that all behind it reads as one cell. Mend that line."
            )
    return SourceError(f"{sheet.name}: {fault}")


def _few_values(reading: Reading, settings: SourceSettings) -> list[str]:
    """Text columns with few distinct values, which are stored as written and corrected on reading."""
    if reading.kind not in MEASURES:
        return []
    texts = [column.name for column in TABLES[reading.kind] if column.type == "text" and column.name != "query"]
    return [name for name in texts if name in reading.matches and name not in settings.where]


def _mends(engine: AnyEngine, table: ibis.Table, names: list[str]) -> dict[str, dict[str, str | None]]:
    """By column, the corrected value of each irregular one: a placeholder or a text with surrounding blanks.

    Raises SourceError when there are many, and for years that the engine read from two digits.
    """
    result: dict[str, dict[str, str | None]] = {}
    for name in (name for name in table.columns if table[name].type().is_date()):
        if engine.fetch(table.aggregate(short=(table[name].year() < 1000).any().fill_null(False)))["short"].iloc[0]:
            raise SourceError("years of two digits among those of four")
    for name in names:
        for cell in engine.fetch(table.select(name).distinct())[name].dropna():
            if (bare := bare_cell(cell)) != cell:
                result.setdefault(name, {})[cell] = bare
    if any(len(values) > MOST_MENDS for values in result.values()):
        raise SourceError("too many values to mend one by one")
    return result


def _mended(table: ibis.Table, mends: dict[str, dict[str, str | None]]) -> ibis.Table:
    return table.mutate(
        **{
            name: ibis.cases(*[(table[name] == cell, ibis.literal(bare, "string")) for cell, bare in values.items()], else_=table[name])
            for name, values in mends.items()
        }
    )


def _spellings(table: ibis.Table) -> ibis.Table | None:
    """page_key and spelling of every address in used rows; none for small kinds."""
    if "page_key" not in table.columns:
        return None
    used = table.filter(table.aside.isnull(), table.page.notnull())
    return used.select("page_key", spelling=used.page).distinct()


def _same(table: ibis.Table) -> ibis.Table:
    return table


def _as_text(
    place: Place, sheet: Sheet, reading: Reading, settings: SourceSettings, cells: Cells = TEXTS
) -> tuple[ibis.Table, list[tuple[str, str]]]:
    """The rows with every cell as in the file; all texts together decide the format of numbers and days."""
    raw = opened(place.engine, sheet, reading, cells)
    kinds = {column.name: column.type for column in TABLES[reading.kind]}
    if any(raw[name].type().is_string() for name in reading.matches if kinds[name] in ("date", "count", "number", "place")):
        raw = place.engine.keep(raw)
    return typed_rows(place.engine, place.brand, raw, sheet, reading, settings), hidden_values(place.engine, raw, reading)


def _doubts(sheet: Sheet, reading: Reading) -> list[tuple[str, str]]:
    """A note for each column that was guessed or has a duplicate, with the line that settles it; and the unused columns."""
    unused = reading.unused[:MOST_UNUSED]
    rest = f" and {len(reading.unused) - len(unused)} more" if len(reading.unused) > len(unused) else ""
    spare = [("unused", f"{sheet.name}: columns not used: {', '.join(unused)}{rest}.")] if unused else []
    twice = [
        (
            "named_twice",
            f'{sheet.name}: several columns of other values are headed "{header}"; none is taken for {column}. Say which by its place: columns = {{ {column} = "#2" }}',
        )
        for column, header in reading.twice
    ]
    return [*twice, *spare] + [
        (
            "doubtful_column",
            f'{sheet.name}: "{m.name}" was taken for {m.column} ({m.confidence:.0%} sure). Settle it in its [[source]]: columns = {{ {m.column} = "{m.name}" }}',
        )
        for m in reading.doubtful
    ]
