"""From a recognised sheet of texts to a typed table in which every row is used or set aside with a reason."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from datetime import date
from functools import reduce
from operator import or_
from typing import TYPE_CHECKING, Any

import ibis
import pandas as pd
from ibis import _

from nibbet.core.reduce import is_brand
from nibbet.engine import key_of, program
from nibbet.errors import SourceError
from nibbet.sources.conventions import (
    ISO_DAY,
    day_of_text,
    decimal_evidence,
    decimal_mark,
    misfits,
    number_expression,
    plain_expression,
    sample_mark,
    sample_style,
)
from nibbet.sources.kinds import MEASURES, NO_VALUE, TABLES, TOTAL_WORDS, Column
from nibbet.sources.recognise import Reading
from nibbet.sources.sheets import Sheet

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from nibbet.config import SourceSettings
    from nibbet.engine import AnyEngine, Engine, Store

ENGINE_TYPE = {
    "date": "date",
    "address": "string",
    "text": "string",
    "count": "int64",
    "number": "decimal(24,6)",
    "place": "float64",
    "flag": "boolean",
}
ORGANIC = r"organi|orgáni|自然|オーガニック|естествен"
NO_TEXT = sorted(NO_VALUE)
#: values of a column that are mended one by one; more are read as text
MOST_MENDS = 40
LONGEST_TOTAL = max(map(len, TOTAL_WORDS)) + 2
LONGEST_PLACEHOLDER = max(map(len, NO_TEXT))
PLACEHOLDER_LETTERS = sorted({letter for word in NO_TEXT for letter in (word[:1].lower(), word[:1].upper()) if letter})
#: measures that a share or mean of the same row gives
DERIVED = {"engaged_share": "engaged_sessions", "single_page_share": "single_page_sessions", "seconds_each": "engagement_seconds"}


@dataclass
class Clean:
    """One or more files of one kind and shape: their typed rows with `part` (which file) and `aside` (null = used).

    files: name and digest of each; numbers: where each stands in the account, set when the sources are brought together.
    """

    kind: str
    files: list[tuple[str, str]]
    table: ibis.Table
    reading: Reading
    period: tuple[date, date] | None
    numbers: list[int] = field(default_factory=list)
    notes: tuple[tuple[str, str], ...] = ()
    met: ibis.Table | None = None
    "Of kinds with many rows: page_key and spelling of every address in used rows."

    @property
    def measures(self) -> list[str]:
        """The measures of its kind that it gives, or that follow from what it gives."""
        given = {*self.reading.matches, *(DERIVED[name] for name in self.reading.matches if name in DERIVED)}
        return [name for name in MEASURES.get(self.kind, []) if name in given]

    @property
    def undated(self) -> bool:
        """Whether its rows carry no date, only a period."""
        return self.period is not None and "date" not in self.reading.matches

    @property
    def grain(self) -> str:
        """page, query, or pair of both: what one row is about."""
        has = self.reading.matches
        return "pair" if {"page", "query"} <= set(has) else "page" if "page" in has else "query"


@dataclass(frozen=True)
class Place:
    """Where sources are cleaned: the engine that reads them, the store that keeps what was read, and the words of the brand."""

    engine: AnyEngine
    store: Store
    brand: tuple[str, ...] = ()


def clean(place: Place, sheet: Sheet, reading: Reading, settings: SourceSettings) -> Clean:
    """The sheet as a typed table with all columns of its kind (null where the sheet lacks one), `undated` and `aside`.

    What the store holds of it is not read again. Raises SourceError for a search or landings sheet without dates and without a period,
    and for dates that read two ways.
    """
    if reading.kind in MEASURES and "date" not in reading.matches and settings.period is None:
        raise SourceError(
            f"{sheet.name}: the rows carry no date, so the days they cover must be said. Add to its [[source]] in nibbet.toml: "
            "period = [2026-08-03, 2026-10-31]"
        )
    notes = (*sheet.notes, *_doubts(sheet, reading))
    table, met, hidden = _kept(place, sheet, reading, settings)
    return Clean(reading.kind, sheet.files, table, reading, settings.period, notes=(*notes, *hidden), met=met)


Read = tuple[ibis.Table, ibis.Table | None, list[tuple[str, str]]]


def _kept(place: Place, sheet: Sheet, reading: Reading, settings: SourceSettings) -> Read:
    """The rows of the sheet from the store, read first where they are not there; the spellings met; notes that only all rows can tell."""
    how = (place.brand, [(m.column, m.place) for m in reading.matches.values()], settings.model_dump(exclude={"files"}))

    def key(at: slice) -> str:
        return key_of(program(), how, sheet.shape, [digest for _, digest in sheet.files[at]])

    whole = key(slice(None))
    if not all(digest for _, digest in sheet.files):
        rows, hidden = _as_text(place, sheet, reading, settings)
        table = _completed(place.engine.keep(rows), reading, settings)
        return table, _met(table), hidden
    if (types := _plain_types(sheet, reading, settings)) and not place.store.has("text", whole):
        try:
            return *_in_portions(place, sheet, reading, settings, types, key), []
        except SourceError:
            pass  # a cell further down does not keep to what the sample showed: read all as text
    hidden = []

    def make() -> ibis.Table:
        rows, found = _as_text(place, sheet, reading, settings)
        hidden.extend(found)
        return rows

    table = _completed(place.store.table(place.engine, "text", whole, make), reading, settings)
    return table, _met(table), [(code, text) for code, text in place.store.value("hidden", whole, lambda: hidden)]


def _in_portions(
    place: Place, sheet: Sheet, reading: Reading, settings: SourceSettings, types: dict[int, str], key: Callable[[slice], str]
) -> tuple[ibis.Table, ibis.Table | None]:
    """Files whose cells the engine can type as it cuts them, portion by portion, so that a new file costs no more than itself."""
    low = _few_values(reading, settings)
    parts, met = [], []
    for at in sheet.portions:

        def make(at: slice = at) -> ibis.Table:
            return _rows(place, _opened(place.engine, sheet, reading, types, at), sheet, reading, settings, as_is=low)

        table = place.store.table(place.engine, "rows", key(at), make)
        mends = place.store.value("mends", key(at), lambda table=table: _mends(place.engine, table, low))
        table = _completed(_mended(table, mends), reading, settings)
        if (found := _met(table)) is not None:
            met.append(place.store.table(place.engine, "met", key(at), lambda found=found: found))
        parts.append(table.mutate(part=(table.part + at.start).cast("int32")) if at.start else table)
    return _below(parts), _below(met).distinct() if len(met) > 1 else met[0] if met else None


def _few_values(reading: Reading, settings: SourceSettings) -> list[str]:
    """Text columns with few different values, which are kept as they are written and mended when they are read."""
    if reading.kind not in MEASURES:
        return []
    texts = [column.name for column in TABLES[reading.kind] if column.type == "text" and column.name != "query"]
    return [name for name in texts if name in reading.matches and name not in settings.where]


def _mends(engine: Engine, table: ibis.Table, names: list[str]) -> dict[str, dict[str, str | None]]:
    """By column, what stands for each of its values that is not as it should be: a placeholder or a text between blanks.

    Raises SourceError when they are many.
    """
    found: dict[str, dict[str, str | None]] = {}
    for name in names:
        for cell in engine.fetch(table.select(name).distinct())[name].dropna():
            if (bare := _bare(cell)) != cell:
                found.setdefault(name, {})[cell] = bare
    if any(len(values) > MOST_MENDS for values in found.values()):
        raise SourceError("too many values to mend one by one")
    return found


def _mended(table: ibis.Table, mends: dict[str, dict[str, str | None]]) -> ibis.Table:
    return table.mutate(
        **{
            name: ibis.cases(*[(table[name] == cell, ibis.literal(bare, "string")) for cell, bare in values.items()], else_=table[name])
            for name, values in mends.items()
        }
    )


def _met(table: ibis.Table) -> ibis.Table | None:
    """page_key and spelling of every address in used rows; none for kinds of few rows."""
    if "page_key" not in table.columns:
        return None
    used = table.filter(table.aside.isnull(), table.page.notnull())
    return used.select("page_key", spelling=used.page).distinct()


def _below(tables: list[ibis.Table]) -> ibis.Table:
    return reduce(lambda one, other: one.union(other), tables)


def _as_text(place: Place, sheet: Sheet, reading: Reading, settings: SourceSettings) -> tuple[ibis.Table, list[tuple[str, str]]]:
    """The rows with every cell read as text first, so that all of them decide how numbers and days are written."""
    raw = place.engine.keep(_opened(place.engine, sheet, reading, {}))
    return _rows(place, raw, sheet, reading, settings), _hidden(place.engine, raw, sheet, reading)


def _opened(engine: Engine, sheet: Sheet, reading: Reading, types: dict[int, str], at: slice = slice(None)) -> ibis.Table:
    """The recognised columns under their names, and part."""
    return sheet.open(engine, types, at).select(
        part=ibis._.part.cast("int32"), **{m.column: ibis._[f"c{m.place}"] for m in reading.matches.values()}
    )


def _plain_types(sheet: Sheet, reading: Reading, settings: SourceSettings) -> dict[int, str]:
    """Engine types by place when the sample of a text file shows bare numbers and ISO days throughout; else none.

    The engine then reads numbers and days as it cuts the cells, which spares reading all of them twice.
    """
    columns = {column.name: column.type for column in TABLES[reading.kind]}
    types = {}
    for name, match in reading.matches.items():
        cells = [row[match.place] for row in sheet.sample]
        if columns[name] == "date":
            if not all(re.fullmatch(ISO_DAY, cell) for cell in cells):
                return {}
            types[match.place] = "DATE"
        elif columns[name] in ("count", "number", "place"):
            style = sample_style(cells)
            if (
                not any(cells)
                or (style != "whole" and (style != "." or columns[name] == "count" or sample_mark(cells) != "."))
                or settings.decimal == ","
            ):
                return {}
            types[match.place] = "DECIMAL(24,6)" if columns[name] == "number" else "DOUBLE"
    return types if sheet.shape is not None and sheet.sample else {}


def _rows(
    place: Place, raw: ibis.Table, sheet: Sheet, reading: Reading, settings: SourceSettings, *, as_is: Sequence[str] = ()
) -> ibis.Table:
    """All rows with typed columns, and aside with the reason of those that cannot be used; text columns named `as_is` stay as they are.

    Besides: page_key, a number for each spelling by which rows find their page; for search brand, whether the query names it.
    """
    typed, faults = _typed(place.engine, raw, sheet, reading, settings)
    typed = {name: cell for name, cell in typed.items() if name not in as_is}
    table = raw.mutate(**{f"raw_{name}": raw[name] for name in reading.matches})
    table = _with_days(place.engine, table, sheet, reading, settings)
    table = table.mutate(**typed)
    asides: list[tuple[Any, str]] = [(_total_row(table, reading), "total row"), (_blank_row(table, reading), "not a data row")]
    asides += [
        (table[name].isnull() & table[f"raw_{name}"].notnull() & ~_no_value(table[f"raw_{name}"]), f"unreadable {name}")
        for name in faults
        if not raw[name].type().is_date()
    ]
    asides += [(_left_out(table, name, wanted), f"left out by where: {name}") for name, wanted in settings.where.items()]
    reason = ibis.cases(*asides, else_=ibis.null("string"))
    table = table.mutate(aside=ibis.cases((_is_suspect(table, reading, settings), reason), else_=ibis.null("string")))
    more: dict[str, Any] = {}
    if reading.kind in MEASURES and "page" in reading.matches:
        more["page_key"] = place.engine.key(table.page)
    if reading.kind == "search" and "query" in reading.matches and place.brand:
        more["brand"] = is_brand(table["query"], place.brand)
    part = {"part": table.part} if len(sheet.files) > 1 else {}
    return table.select(*reading.matches, "aside", **part, **more)


def _hidden(engine: Engine, raw: ibis.Table, sheet: Sheet, reading: Reading) -> list[tuple[str, str]]:
    """A note where a source writes small numbers as "<10"; they count 0."""
    names = [name for name in MEASURES.get(reading.kind, []) if name in reading.matches and raw[name].type().is_string()]
    names = [name for name in names if any(row[reading.matches[name].place].strip().startswith("<") for row in sheet.sample)]
    if not names:
        return []
    found = engine.fetch(raw.aggregate(**{name: trim(raw[name]).startswith("<").cast("int64").sum() for name in names})).iloc[0]
    return [("thresholded", f'{sheet.name}: {int(found[name]):,} values of {name} are hidden (as "<10") and count 0.') for name in names]


def _doubts(sheet: Sheet, reading: Reading) -> list[tuple[str, str]]:
    """A note for each column whose meaning was guessed, with the line that settles it."""
    return [
        (
            "doubtful_column",
            f'{sheet.name}: "{m.header}" was taken for {m.column} ({m.confidence:.0%} sure). Settle it in its [[source]]: columns = {{ {m.column} = "{m.header}" }}',
        )
        for m in reading.doubtful
    ]


def _typed(engine: Engine, raw: ibis.Table, sheet: Sheet, reading: Reading, settings: SourceSettings) -> tuple[dict[str, Any], list[str]]:
    """Column expressions by name, and the columns in which a text may fail to read."""
    columns = {column.name: column for column in TABLES[reading.kind]}
    numbers = [name for name in reading.matches if columns[name].type in ("count", "number", "place")]
    styles = _styles(engine, raw, sheet, reading, [name for name in numbers if raw[name].type().is_string()], settings)
    typed: dict[str, Any] = {}
    for name in reading.matches:
        cell, kind = raw[name], columns[name].type
        if kind in ("count", "number", "place"):
            typed[name] = _number(columns[name], cell, styles.get(name, ""))
        elif kind == "flag":
            typed[name] = _flag(name, cell)
        elif kind != "date":
            typed[name] = _query(cell.cast("string")) if name == "query" else _text(cell.cast("string"))
    must = [name for name in numbers if name in MEASURES.get(reading.kind, [])] + (
        ["date"] if reading.kind in MEASURES and "date" in reading.matches else []
    )
    return typed, must


def _styles(engine: Engine, raw: ibis.Table, sheet: Sheet, reading: Reading, names: list[str], settings: SourceSettings) -> dict[str, str]:
    """How each number column is written: plain (whole, `.`, `,`) where every cell keeps to it, else `general.` or `general,`.

    A lone group of three digits after a mark is a fraction only where another cell of the file proves the mark.
    """
    if not names:
        return {}
    cells = {name: [row[reading.matches[name].place] for row in sheet.sample] for name in names}
    style = {name: sample_style(cells[name]) for name in names}
    found = engine.fetch(raw.aggregate(**{name: misfits(trim(raw[name]), style[name]) for name in names})).iloc[0]
    mark = settings.decimal or sample_mark([cell for name in names for cell in cells[name]])
    if mark is None or any(found[name] and style[name] != "general" for name in names):
        texts = [trim(raw[name]) for name in names if style[name] != "whole" or found[name]]
        counts = [sum((decimal_evidence(text, sign) for text in texts), ibis.literal(0)) for sign in ",."]
        sums = engine.fetch(raw.aggregate(comma=counts[0], point=counts[1])).iloc[0] if texts else {"comma": 0, "point": 0}
        mark = settings.decimal or decimal_mark(
            int(sums["comma"]), int(sums["point"]), comma_cells=sheet.shape is not None and sheet.shape.delimiter == ";"
        )
    whole = {column.name for column in TABLES[reading.kind] if column.type == "count"}
    for name in names:
        kept = style[name] == "whole" or (style[name] == mark and name not in whole)
        if style[name] == "general" or found[name] or not kept:
            style[name] = "general" + mark
    return style


def _number(column: Column, cell: Any, style: str) -> Any:
    if column.type == "count" and cell.type().is_floating():
        return ibis.cases((cell == cell.floor(), cell.cast("int64")), else_=ibis.null("int64"))
    if not cell.type().is_string():
        return cell.cast(ENGINE_TYPE[column.type])
    text = trim(cell)
    if style == "whole":
        return text.try_cast(ENGINE_TYPE[column.type])
    general = (
        number_expression(text, decimal=style[-1])
        if style.startswith("general")
        else plain_expression(text, mark=style, type=ENGINE_TYPE[column.type])
    )
    if column.type in ("number", "place"):
        return general.cast(ENGINE_TYPE[column.type])
    return ibis.cases((general == general.round(0), general.cast("int64")), else_=ibis.null("int64"))


def _flag(name: str, cell: Any) -> Any:
    if cell.type().is_boolean():
        return cell
    text = cell.cast("string").strip().lower()
    if name == "noindex":
        return ibis.cases(
            (text.contains("noindex") | text.isin(["non-indexable", "no", "false", "nein", "non", "0"]), True),
            (text.isnull(), ibis.null("boolean")),
            else_=False,
        )
    return text.isin(["yes", "true", "1", "ja", "oui", "si", "sí", "sì", "x", "y", "wahr"])


def _with_days(engine: Engine, table: ibis.Table, sheet: Sheet, reading: Reading, settings: SourceSettings) -> ibis.Table:
    """The table with its date columns as days; each distinct text is read once, and all of them decide the convention."""
    for name, match in reading.matches.items():
        if next(c for c in TABLES[reading.kind] if c.name == name).type != "date":
            continue
        cell = table[name]
        if not cell.type().is_string():
            table = table.mutate(**{name: cell.cast("date")})
            continue
        if (
            all(len(row[match.place]) == 10 and row[match.place][4:5] == "-" for row in sheet.sample if row[match.place])
            and engine.fetch(table.aggregate(bad=(~cell.re_search(ISO_DAY)).cast("int64").sum().coalesce(0)))["bad"].iloc[0] == 0
        ):
            table = table.mutate(**{name: cell.try_cast("date")})
            continue
        texts = engine.fetch(table.select(text=cell).distinct())["text"].dropna().tolist()
        days = day_of_text(texts, where=sheet.name, header=match.header, order=settings.dates)
        read = pd.DataFrame({"text": list(days), "day_read": pd.to_datetime(list(days.values()))}).astype({"text": "str"})
        known = engine.frame(read).mutate(day_read=_.day_read.cast("date"))
        table = table.left_join(known, cell == known.text).drop("text", name).rename({name: "day_read"})
    return table


@ibis.udf.scalar.builtin
def trim(text: str) -> str:  # type: ignore[empty-body]
    """The text without blanks around it."""


def _text(cell: Any) -> Any:
    """The text without blanks around it, null for a placeholder; the full reading only for cells that look as if they needed it."""
    return ibis.cases((_is_odd(cell), ibis.cases((_no_value(cell), ibis.null("string")), else_=trim(cell))), else_=cell)


def _bare(cell: str) -> str | None:
    """As `_text`, for one value."""
    bare = cell.strip(" ")
    return None if bare.strip().casefold() in NO_VALUE or re.fullmatch(r"\([^()]{1,30}\)\s*", bare) else bare


def _query(cell: Any) -> Any:
    """A query in small letters with single blanks, null for a placeholder."""
    odd = reduce(or_, [cell.contains(blank) for blank in ("  ", "\t", "\n", "\r", "\u00a0")]) | _is_odd(cell)
    bare = trim(cell.re_replace(r"[\s\x{a0}]+", " ").lower())
    return ibis.cases((odd, ibis.cases((_no_value(cell), ibis.null("string")), else_=bare)), else_=cell.lower())


def _is_odd(cell: Any) -> Any:
    """Whether a cell may be a placeholder or stand between blanks, by its ends: looking costs less than reading."""
    begins = reduce(or_, [cell.startswith(letter) for letter in PLACEHOLDER_LETTERS], cell == "")
    return cell.startswith(" ") | cell.endswith(" ") | cell.startswith("(") | ((cell.length() <= LONGEST_PLACEHOLDER) & begins)


def _one_of(text: Any, words: list[str]) -> Any:
    """Whether a text is one of some short words; the length is asked first, for it is quick."""
    return (text.length() <= max(map(len, words)) + 2) & text.re_search(rf"(?i)^\s*({'|'.join(map(re.escape, words))})\s*$")


def _no_value(text: Any) -> Any:
    """Placeholders for nothing: a word like "n/a" or "-", or whatever stands in brackets."""
    cell = text.cast("string")
    return _one_of(cell, NO_TEXT) | (cell.startswith("(") & cell.re_search(r"^\([^()]{1,30}\)\s*$"))


def _is_suspect(table: ibis.Table, reading: Reading, settings: SourceSettings) -> Any:
    """Whether a row may have to be set aside, by tests that cost little: one without a value, or a key as short as a word for a total."""
    telling = [
        column.name for column in TABLES[reading.kind] if column.name in reading.matches and column.type in ("count", "number", "date")
    ]
    empty = [table[name].isnull() for name in telling or reading.matches]
    short = [table[f"raw_{name}"].length() <= LONGEST_TOTAL for name in _total_keys(reading) if table[f"raw_{name}"].type().is_string()]
    return reduce(or_, [*empty, *short, *(_left_out(table, name, wanted) for name, wanted in settings.where.items())])


def _total_keys(reading: Reading) -> list[str]:
    return [name for name in ("page", "date") if name in reading.matches] or [name for name in ("query",) if name in reading.matches]


def _total_row(table: ibis.Table, reading: Reading) -> Any:
    """Rows that repeat the sum of the others: a total word where an address or a day should stand."""
    cells = [table[f"raw_{name}"] for name in _total_keys(reading)]
    says = [~cell.startswith("/") & _one_of(cell, sorted(TOTAL_WORDS)) for cell in cells if cell.type().is_string()]
    return reduce(or_, says) if says else ibis.literal(False)


def _blank_row(table: ibis.Table, reading: Reading) -> Any:
    """Rows in which nothing but notes stands: neither a key nor a measure."""
    columns = [column for column in TABLES[reading.kind] if column.name in reading.matches]
    keys = [column.name for column in columns if column.name in ("page", "query", "date") or (column.required and column.type != "count")]
    needed = [column.name for column in columns if column.required and column.type == "count"]
    condition = ibis.literal(True)
    for name in needed or keys:
        condition = condition & table[name].isnull() & (table[f"raw_{name}"].isnull() | _no_value(table[f"raw_{name}"]))
    if not needed:
        return condition
    odd = ibis.literal(False)
    for name in keys:
        odd = odd | table[name].isnull()
    return condition & odd


def _derive_engagement(columns: dict[str, Any], reading: Reading) -> None:
    """Counts from shares and means of the same row, where a file gives only these; the two meanings of engagement stay apart."""
    share = {"engaged_sessions": "engaged_share", "single_page_sessions": "single_page_share"}
    for count, rate in share.items():
        given = columns.pop(rate)
        if rate in reading.matches and count not in reading.matches:
            part = ibis.cases((given > 1, given / 100), else_=given).cast("float64")
            columns[count] = (part * columns["sessions"]).round().cast("int64").fill_null(0)
    each = columns.pop("seconds_each")
    if "seconds_each" in reading.matches and "engagement_seconds" not in reading.matches:
        columns["engagement_seconds"] = (each.cast("float64") * columns["sessions"]).cast("decimal(24,6)").fill_null(0)


def _left_out(table: ibis.Table, name: str, wanted: str | list[str]) -> Any:
    if name not in table.columns:
        raise SourceError(
            f'where names "{name}", which the source does not have. It has: {", ".join(c for c in table.columns if not c.startswith("raw_"))}.'
        )
    values = [wanted] if isinstance(wanted, str) else wanted
    return ~table[name].cast("string").lower().isin([value.lower() for value in values]).fill_null(False)


def _completed(table: ibis.Table, reading: Reading, settings: SourceSettings) -> ibis.Table:
    """All columns of the kind in order, absent ones null; measures of used rows without a value count 0; undated rows get their last day."""
    columns = {}
    for column in TABLES[reading.kind]:
        kind = ENGINE_TYPE[column.type]
        columns[column.name] = table[column.name].cast(kind) if column.name in table.columns else ibis.null(kind)
    undated = settings.period is not None and "date" not in reading.matches
    if undated and settings.period:
        columns["date"] = ibis.literal(settings.period[1], "date")
    for name in MEASURES.get(reading.kind, []):
        if name in reading.matches:
            columns[name] = columns[name].fill_null(0)
    if reading.kind == "hits":
        columns["path"] = columns["path"].cast("string")
    if reading.kind == "search":
        columns["brand"] = table.brand.fill_null(False) if "brand" in table.columns else ibis.literal(False)
    if reading.kind in MEASURES:
        columns["page_key"] = table.page_key if "page_key" in table.columns else ibis.null("int64")
    if reading.kind == "landings":
        _derive_engagement(columns, reading)
        says = [columns[name] for name in ("channel", "medium") if name in reading.matches]
        organic: Any = ibis.null("boolean") if not says else ibis.literal(False)
        for text in says:
            organic = organic | text.lower().re_search(ORGANIC).fill_null(False)
        columns["organic"] = organic
    part = table.part if "part" in table.columns else ibis.literal(0, "int32")
    return table.select(**columns, part=part, aside=table.aside, undated=ibis.literal(undated))
