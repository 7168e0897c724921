"""The shape of a table before its meaning: delimiter, preamble, header, cells; from text files and workbooks."""

from __future__ import annotations

import contextlib
import csv
import io
import re
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import date
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nibbet.engine.engine import PART
from nibbet.errors import SourceError
from nibbet.sources.files import HEAD_CHARACTERS, Plain
from nibbet.sources.headers import MOST_ROWS_OF_BLOCKS, blocks, first_row_of_values, fitted, header_cells, header_row, with_row_names
from nibbet.sources.periods import Period, days_of_names
from nibbet.sources.profile import Profile, profiles_of

if TYPE_CHECKING:
    import ibis

    from nibbet.engine import Engine

SAMPLE_ROWS = 400
#: the code of the note that each row of a table is one session
SESSIONS_BY_ROW = "sessions_by_row"
#: header of the column for the day in the name of each file
DAY_OF_FILE = "day of the file"
#: characters in which the separator is searched
DELIMITER_CHARACTERS = 20_000
#: total size of files that are read together; reading so much again costs less than one table for each file
PORTION_BYTES = 128_000_000
#: words of a preamble that describe the figures as a sample
SAMPLED = r"\bsampl|stichprobe|échantillon|muestr|campion|steekproef"


@dataclass(frozen=True)
class Cells:
    """How the engine types the cells of a text file while parsing: engine types by place (text elsewhere), the format of days for `strptime`
    ("" for ISO), the decimal mark, and whether rows may differ in length from the header.
    """

    types: dict[int, str]
    days: str = ""
    mark: str = "."
    lenient: bool = False

    @property
    def order(self) -> str | None:
        """The order of day and month, as in the settings; None where the year comes first."""
        return {"%d": "day first", "%m": "month first"}.get(self.days[:2])

    def with_days_as_text(self) -> Cells:
        """The same with days as text."""
        return replace(self, types={place: kind for place, kind in self.types.items() if kind != "DATE"}, days="")


#: the column of additional cells of a row
MORE = "more_cells"
#: every cell as text
TEXTS, LENIENT = Cells({}), Cells({}, lenient=True)


@dataclass(frozen=True)
class Sheet:
    """One table: header cells, some rows of text, and how to open all of it in the engine.

    `open` (engine, types of cells in text files, which of the files) returns a table of the engine with columns c0, c1, ... in the order
    of `header`, and part: the number of the file, from 0, when several files of one shape are combined in one table. `files` are
    their names and digests; `portions` says which of them are read together; `last` are rows from the ends of long files; `kind` is set if
    the format defines it. `period` is the period of undated rows, from the table itself, its package or its name;
    `hidden` are the columns of another window of the same table; `lines` the lines above the header; `shapes` the shape of each
    text file; `column` returns all cells of a column of a small table; `paths` are the Parquet files; `shared` are columns with one value for all rows.
    """

    name: str
    header: list[str]
    sample: list[list[str]]
    open: Callable[[Engine, Cells, slice], ibis.Table]
    files: list[tuple[str, str]]
    shape: Delimited | None = None
    notes: tuple[tuple[str, str], ...] = ()
    kind: str | None = None
    portions: tuple[slice, ...] = (slice(0, None),)
    last: tuple[list[str], ...] = ()
    period: Period | None = None
    hidden: frozenset[int] = frozenset()
    lines: tuple[str, ...] = ()
    shapes: tuple[Delimited, ...] = ()
    column: Callable[[int], list[str]] | None = None
    paths: tuple[Path, ...] = ()
    days: tuple[date, ...] = ()
    shared: tuple[tuple[str, str], ...] = ()

    @cached_property
    def profiles(self) -> list[Profile]:
        """The profile of each column."""
        return profiles_of([[row[place] for row in self.sample] for place in range(len(self.header))])

    def with_columns(self, headers: list[str], cells: Callable[[list[str]], list[str]], exprs: Callable[[ibis.Table], list[Any]]) -> Sheet:
        """The sheet with additional columns: their headers, their cells in a row of the sample, their expressions in the engine."""
        width, opened = len(self.header), self.open

        def open_in(engine: Engine, how: Cells, at: slice) -> ibis.Table:
            table = opened(engine, how, at)
            return table.mutate(**{f"c{width + n}": expression for n, expression in enumerate(exprs(table))})

        return replace(
            self,
            header=[*self.header, *headers],
            sample=[[*row, *cells(row)] for row in self.sample],
            last=tuple([*row, *cells(row)] for row in self.last),
            open=open_in,
            column=None,
        )

    def with_days(self, days: tuple[date, ...]) -> Sheet:
        """The sheet with a column for the day of each of its files, all rows of which are of that day."""
        width, opened = len(self.header), self.open

        def open_in(engine: Engine, how: Cells, at: slice) -> ibis.Table:
            import ibis

            table, part = opened(engine, how, at), days[at]
            column = ibis.array([ibis.literal(day, "date") for day in part])[table.part] if len(part) > 1 else ibis.literal(part[0], "date")
            return table.mutate(**{f"c{width}": column})

        sample, last = [[*row, str(days[0])] for row in self.sample], tuple([*row, str(days[-1])] for row in self.last)
        return replace(self, header=[*self.header, DAY_OF_FILE], sample=sample, last=last, open=open_in, column=None, days=days)


@dataclass(frozen=True)
class Delimited:
    """How a text file is divided into cells; files of equal header and shape are read as one. Above its rows are `skip` lines, in `above`
    records: a header may have line ends in its cells.
    """

    size: int = field(compare=False, repr=False)
    lay: Callable[[], Path] = field(compare=False, repr=False)
    header: tuple[str, ...]
    delimiter: str
    skip: int
    above: int
    lenient: bool
    empty: bool = False


def delimited(plain: Plain) -> list[Sheet]:
    """The tables of a delimited text file: one, without its preamble, or several below each other.

    Raises SourceError when there are no rows for a table.
    """
    text = plain.head
    whole = len(text) < HEAD_CHARACTERS
    if not whole:
        text = text[: text.rfind("\n") + 1] or text
    if not text.strip():
        raise SourceError(f"{plain.name}: the file holds no rows. Export it again.")
    delimiter = _delimiter(text)
    rows, starts = _split(text, delimiter, MOST_ROWS_OF_BLOCKS if whole else SAMPLE_ROWS + 60)
    if whole and len(parts := blocks(rows)) > 1:
        return _of_blocks(plain.name, parts, plain.digest)
    filled = [number for number, row in enumerate(rows) if row]
    rows, starts = [rows[number] for number in filled], [starts[number] for number in filled]
    head = header_row(rows)
    notes: list[tuple[str, str]] = []
    if plain.unreadable:
        letters = f"{plain.unreadable:,} letters are" if plain.unreadable > 1 else "1 letter is"
        notes.append(("damaged_letters", f"{plain.name}: {letters} damaged and read as U+FFFD. Export it again as UTF-8."))
    if head is None and (first := first_row_of_values(rows)) is not None:
        header, body, skip, above, records = [""] * len(rows[first]), rows[first:], starts[first], starts[first], filled[first]
        notes.append(("headless", f"{plain.name}: there is no header row; columns are recognised by their values alone."))
    elif head is None:
        raise SourceError(f"{plain.name}: no header row followed by rows was found. The first line reads {text.splitlines()[0][:80]!r}.")
    else:
        body = rows[head + 1 :]
        header = with_row_names(header_cells(rows, head), body if whole else body[:-1])
        skip, records = (starts[head + 1], filled[head + 1]) if head + 1 < len(starts) else (starts[head] + 1, filled[head] + 1)
        above = starts[head]
    sample = [row for row in body if any(cell.strip() for cell in row)]
    ends = _rows(plain.tail, delimiter)
    lenient = any(len(row) != len(header) for row in [*body, *ends] if row)
    shape = Delimited(plain.size, plain.lay, tuple(header), delimiter, skip, records, lenient, not sample and whole)
    lines = tuple(text.splitlines()[:above])
    if above:
        notes.append(("preamble", f"{plain.name}: {above} lines before the header are skipped."))
    preamble = " ".join(lines)
    if re.search(SAMPLED, preamble, re.IGNORECASE):
        notes.append(("sampled", f"{plain.name} describes itself as a sample ({preamble.strip(' #')[:80]}): its figures are estimates."))
    last = tuple(row for row in ends if len(row) == len(header))
    sheet = _of_shape([(plain.name, plain.digest)], [shape], [fitted(row, len(header)) for row in sample[:SAMPLE_ROWS]], last, tuple(notes))
    sheet = replace(sheet, lines=lines)
    if not whole:
        return [sheet]
    return [
        replace(sheet, column=lambda place: [fitted(row, len(header))[place] for row in _rows(text, delimiter) if row][head is not None :])
    ]


def _of_blocks(name: str, parts: list[tuple[list[str], list[list[str]], list[str]]], digest: str) -> list[Sheet]:
    """A sheet for each of several tables below each other."""
    return [
        replace(table_of_rows(f"{name}[table {number}]", header, body, f"{digest}{number}"), lines=tuple(lines))
        for number, (header, body, lines) in enumerate(parts, 1)
    ]


def bundle(sheets: list[Sheet]) -> list[Sheet]:
    """The sheets, with text files of equal header and shape combined, in the order of the first of them, and the sheets of workbooks and Parquet
    files that are a series of one a day.
    """
    alike: dict[object, list[Sheet]] = {}
    series: dict[tuple[object, ...], list[Sheet]] = {}
    for sheet in sheets:
        if not sheet.shape and (sheet.column is not None or sheet.paths) and sheet.period is None:
            series.setdefault((*sheet.header, sheet.hidden, bool(sheet.paths)), []).append(sheet)
    daily = {id(one): key for key, group in series.items() if days_of_names(one.name for one in group) for one in group}
    for number, sheet in enumerate(sheets):
        alike.setdefault((sheet.shape, sheet.period, sheet.hidden) if sheet.shape else daily.get(id(sheet), number), []).append(sheet)
    return [_combined(group) for group in alike.values()]


def _combined(sheets: list[Sheet]) -> Sheet:
    one = sheets[0]
    if len(sheets) == 1:
        return one
    if not one.shape:
        return _of_rows(sheets)
    sheet = _of_shape(
        [file for s in sheets for file in s.files],
        [s.shape for s in sheets if s.shape],
        [row for s in sheets for row in s.sample[: max(20, SAMPLE_ROWS // len(sheets))]],
        tuple(row for s in sheets for row in s.last[-20:]),
        tuple(note for s in sheets for note in s.notes),
    )
    return replace(sheet, period=one.period, hidden=one.hidden, header=one.header, shared=one.shared)


def _of_rows(sheets: list[Sheet]) -> Sheet:
    """Small tables of equal header as one, whose parts they are."""
    places = range(len(sheets[0].header))

    def open_in(engine: Engine, _cells: Cells, at: slice) -> ibis.Table:
        import pandas as pd

        tables = [pd.DataFrame({f"c{n}": sheet.column(n) if sheet.column else [] for n in places}, dtype="str") for sheet in sheets[at]]
        rows = pd.concat([table.assign(part=part) for part, table in enumerate(tables)], ignore_index=True)
        return engine.frame(rows.replace("", None).astype({f"c{n}": "str" for n in places}))

    def open_columnar(engine: Engine, _cells: Cells, at: slice) -> ibis.Table:
        return _numbered(engine.series([path for sheet in sheets[at] for path in sheet.paths]))

    files = [file for sheet in sheets for file in sheet.files]
    sample = [row for sheet in sheets for row in sheet.sample[: max(20, SAMPLE_ROWS // len(sheets))]]
    notes = tuple(note for sheet in sheets for note in sheet.notes)
    name = f"{files[0][0]} and {len(files) - 1} more"
    opened = open_columnar if sheets[0].paths else open_in
    return replace(sheets[0], name=name, sample=sample, open=opened, files=files, notes=notes, column=None, paths=())


def _of_shape(
    files: list[tuple[str, str]],
    shapes: list[Delimited],
    sample: list[list[str]],
    last: tuple[list[str], ...],
    notes: tuple[tuple[str, str], ...],
) -> Sheet:
    one = shapes[0]
    columns = [f"c{n}" for n in range(len(one.header))]

    def open_in(engine: Engine, cells: Cells, at: slice) -> ibis.Table:
        if all(s.empty for s in shapes[at]):
            return engine.frame(_empty(columns)).mutate(part=0)
        lenient = one.lenient or cells.lenient
        return engine.delimited(
            [s.lay() for s in shapes[at]],
            {f"c{n}": cells.types.get(n, "VARCHAR") for n in range(len(one.header))} | ({MORE: "VARCHAR"} if lenient else {}),
            delimiter=one.delimiter,
            quote='"',
            skip=one.above,
            lenient=lenient,
            days=cells.days,
            mark=cells.mark,
        )

    name = files[0][0] + (f" and {len(files) - 1} more" if len(files) > 1 else "")
    portions = _portions([s.size for s in shapes])
    return Sheet(name, list(one.header), sample, open_in, files, one, notes, portions=portions, last=last, shapes=tuple(shapes))


def _portions(sizes: list[int]) -> tuple[slice, ...]:
    """Files in their order, together up to PORTION_BYTES, so that new files do not affect those already read."""
    bounds, filled = [0], 0
    for number, size in enumerate(sizes):
        if filled and filled + size > PORTION_BYTES:
            bounds.append(number)
            filled = 0
        filled += size
    return tuple(slice(a, b) for a, b in zip(bounds, [*bounds[1:], len(sizes)], strict=True))


def _delimiter(text: str) -> str:
    """The separator that gives most lines the same number of cells above one; a comma where none does."""
    lines = text[:DELIMITER_CHARACTERS]
    best, score = ",", 0.0
    for mark in (",", ";", "\t", "|"):
        rows = _rows(lines, mark)
        rows = rows[:-1] or rows
        widths = Counter(len(row) for row in rows if row)
        width, count = max(widths.items(), key=lambda item: (item[1] * (item[0] > 1), item[0]))
        this = (count / len(rows)) * min(width - 1, 8) ** 0.25 if width > 1 else 0.0
        if this > score:
            best, score = mark, this
    return best


def _rows(text: str, delimiter: str) -> list[list[str]]:
    """The rows of a text up to its end, or to a cell that exceeds the limit of the reader."""
    rows: list[list[str]] = []
    with contextlib.suppress(csv.Error):
        rows.extend(csv.reader(io.StringIO(text), delimiter=delimiter))
    return rows


def _split(text: str, delimiter: str, most: int) -> tuple[list[list[str]], list[int]]:
    """Rows of cells, blank ones as empty lists, and the line on which each begins, from 0; without the end of the sample."""
    reader = csv.reader(io.StringIO(text), delimiter=delimiter)
    rows, starts, line = [], [], 0
    try:
        for row in reader:
            rows.append(row)
            starts.append(line)
            line = reader.line_num
            if len(rows) > most:
                break
    except csv.Error:
        pass  # a cell exceeds the limit of the reader: the rows so far are a sufficient sample
    return rows, starts


def _empty(columns: list[str]) -> Any:
    import pandas as pd

    return pd.DataFrame({column: pd.Series([], dtype="str") for column in columns})


def workbook(plain: Plain) -> list[Sheet]:
    """The tables in the visible sheets of a workbook; hidden sheets are left out, with a note.

    Raises SourceError when none has a header row with rows below it.
    """
    import python_calamine

    try:
        book = python_calamine.load_workbook(str(plain.path))
        shown = {meta.name: meta.visible == python_calamine.SheetVisibleEnum.Visible for meta in book.sheets_metadata}
        named = [(name, book.get_sheet_by_name(name).to_python(skip_empty_area=True)) for name in book.sheet_names]
    except (python_calamine.CalamineError, OSError, ValueError) as fault:
        why = str(fault).splitlines()[0].partition(" (")[0]
        raise SourceError(f"{plain.name}: the workbook cannot be read ({why}). Save it again as XLSX.") from None
    sheets: list[Sheet] = []
    dropped = []
    for name, cells in named:
        rows = [[cell_text(cell) for cell in row] for row in cells]
        result = blocks(rows) if shown.get(name, True) else []
        if not result and any(any(row) for row in rows):
            dropped.append(f"{name} (hidden)" if not shown.get(name, True) else f"{name} (no header row with rows below it)")
        title = f"{plain.name}[{name}]"
        tables = _of_blocks(title, result, plain.digest + name) if len(result) > 1 else []
        tables += [
            replace(table_of_rows(title, h, body, plain.digest + name), lines=tuple(lines)) for h, body, lines in result[: len(result) == 1]
        ]
        sheets += tables
    if not sheets:
        raise SourceError(
            f"{plain.name}: no sheet holds a header row with rows below it{' (' + ', '.join(dropped) + ')' if dropped else ''}."
        )
    if dropped:
        note = ("sheet_left_out", f"{plain.name}: sheets left out: {', '.join(dropped)}.")
        sheets[0] = replace(sheets[0], notes=(*sheets[0].notes, note))
    return sheets


def table_of_rows(name: str, header: list[str], rows: list[list[str]], digest: str) -> Sheet:
    """A sheet from rows of text in memory."""
    import pandas as pd

    width = len(header)
    columns = [f"c{n}" for n in range(width)]

    def open_in(engine: Engine, _cells: Cells, _at: slice) -> ibis.Table:
        return engine.frame(
            pd.DataFrame([fitted(row, width) for row in rows], columns=columns, dtype="str").replace("", None).astype("str")
        ).mutate(part=0)

    return Sheet(
        name,
        header,
        [fitted(row, width) for row in rows[:SAMPLE_ROWS]],
        open_in,
        [(name, digest)],
        column=lambda place: [fitted(row, width)[place] for row in rows],
    )


def cell_text(cell: object) -> str:
    """A cell of a workbook or document as the text in a CSV: ISO dates, whole numbers without a point."""
    if cell is None:
        return ""
    if isinstance(cell, bool):
        return "true" if cell else "false"
    if isinstance(cell, float):
        return str(int(cell)) if cell.is_integer() and abs(cell) < 1e15 else repr(cell)
    if hasattr(cell, "isoformat"):
        return str(cell.isoformat()).removesuffix("T00:00:00")
    return str(cell)


def columnar(plain: Plain) -> Sheet:
    """A Parquet or JSON lines file."""

    def open_in(engine: Engine, _cells: Cells, _at: slice) -> ibis.Table:
        table = engine.parquet([plain.path]) if plain.suffix == ".parquet" else engine.json_lines(plain.path)
        return _numbered(table)

    header, sample = _peek(plain.path, plain.suffix == ".parquet", plain.name)
    paths = (plain.path,) if plain.suffix == ".parquet" else ()
    return Sheet(plain.name, header, sample, open_in, [(plain.name, plain.digest)], paths=paths)


def _numbered(table: ibis.Table) -> ibis.Table:
    """The table with its columns named by their places, and `part`."""
    import ibis

    names = [name for name in table.columns if name != PART]
    part = table[PART] if PART in table.columns else ibis.literal(0)
    return table.select(**{f"c{n}": table[name] for n, name in enumerate(names)}, part=part)


def _peek(path: Path, is_parquet: bool, name: str) -> tuple[list[str], list[list[str]]]:
    """Header and first rows of a columnar file, as text."""
    import pyarrow as pa
    import pyarrow.parquet as pq
    from pyarrow import json as pj

    try:
        if is_parquet:
            file = pq.ParquetFile(path)
            batch = next(file.iter_batches(SAMPLE_ROWS), None)
            names = file.schema_arrow.names
        else:
            batch = next(iter(pj.open_json(path)), None)
            names = batch.schema.names if batch is not None else []
    except (pa.ArrowException, OSError) as fault:
        raise SourceError(f"{name}: cannot be read ({str(fault).splitlines()[0]}). Export it again.") from None
    rows = [] if batch is None else batch.slice(0, SAMPLE_ROWS).to_pylist()
    return names, [[cell_text(row.get(column)) for column in names] for row in rows]


def frame_sheet(name: str, table: ibis.Table, sample: list[dict[str, object]]) -> Sheet:
    """A sheet from a table in the engine."""
    return Sheet(
        name,
        list(table.columns),
        [[cell_text(value) for value in row.values()] for row in sample],
        lambda _engine, _cells, _at: _numbered(table),
        [(name, "")],
    )
