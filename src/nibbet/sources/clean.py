"""From a recognised sheet of texts to a typed table in which every row is used or set aside with a reason."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from datetime import date
from typing import TYPE_CHECKING, Any

import ibis
import pandas as pd
from ibis import _

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
    from nibbet.config import SourceSettings
    from nibbet.engine import Engine

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
#: measures that a share or mean of the same row gives
DERIVED = {"engaged_share": "engaged_sessions", "single_page_share": "single_page_sessions", "seconds_each": "engagement_seconds"}
#: positions times impressions are rounded to this part of one, so that their sums are exact and do not depend on the order of rows
FINEST = 2.0**16


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


def clean(engine: Engine, sheet: Sheet, reading: Reading, settings: SourceSettings) -> Clean:
    """The sheet as a typed table with all columns of its kind (null where the sheet lacks one), `undated` and `aside`.

    Raises SourceError for a search or landings sheet without dates and without a period, and for dates that read two ways.
    """
    if reading.kind in MEASURES and "date" not in reading.matches and settings.period is None:
        raise SourceError(
            f"{sheet.name}: the rows carry no date, so the days they cover must be said. Add to its [[source]] in nibbet.toml: "
            "period = [2026-08-03, 2026-10-31]"
        )
    notes = (*sheet.notes, *_doubts(sheet, reading))
    if types := _plain_types(sheet, reading, settings):
        try:
            kept = engine.keep(_rows(engine, _opened(engine, sheet, reading, types), sheet, reading, settings))
            return Clean(reading.kind, sheet.files, kept, reading, settings.period, notes=notes)
        except SourceError:
            pass  # a cell further down does not keep to what the sample showed: read all as text
    raw = engine.keep(_opened(engine, sheet, reading, {}))
    hidden = _hidden(engine, raw, sheet, reading)
    kept = engine.keep(_rows(engine, raw, sheet, reading, settings))
    engine.drop(raw)
    return Clean(reading.kind, sheet.files, kept, reading, settings.period, notes=(*notes, *hidden))


def _opened(engine: Engine, sheet: Sheet, reading: Reading, types: dict[int, str]) -> ibis.Table:
    """The recognised columns under their names, and part."""
    return sheet.open(engine, types).select(
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


def _rows(engine: Engine, raw: ibis.Table, sheet: Sheet, reading: Reading, settings: SourceSettings) -> ibis.Table:
    """All rows with typed columns, undated, and aside with the reason of those that cannot be used."""
    typed, faults = _typed(engine, raw, sheet, reading, settings)
    table = raw.mutate(**{f"raw_{name}": raw[name] for name in reading.matches})
    table = _with_days(engine, table, sheet, reading, settings)
    table = table.mutate(**typed)
    asides: list[tuple[Any, str]] = [(_total_row(table, reading), "total row"), (_blank_row(table, reading), "not a data row")]
    asides += [
        (table[name].isnull() & table[f"raw_{name}"].notnull() & ~_no_value(table[f"raw_{name}"]), f"unreadable {name}") for name in faults
    ]
    asides += [(_left_out(table, name, wanted), f"left out by where: {name}") for name, wanted in settings.where.items()]
    if settings.period and "date" not in reading.matches:
        table = table.mutate(date=ibis.literal(settings.period[1], "date"), undated=True)
    else:
        table = table.mutate(undated=False)
    table = table.mutate(aside=ibis.cases(*[(condition, reason) for condition, reason in asides], else_=ibis.null("string")))
    return _completed(table, reading)


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
            text = _bare(cell.cast("string"))
            if name == "query":
                small = text.lower()
                text = ibis.cases(
                    (
                        small.contains("  ") | small.contains("\t") | small.contains("\n") | small.contains("\u00a0"),
                        small.re_replace(r"[\s\x{a0}]+", " "),
                    ),
                    else_=small,
                )
            typed[name] = ibis.cases((_no_value(text), ibis.null("string")), else_=text)
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


def _bare(text: Any) -> Any:
    """The text without blanks around it; asked first whether there are any, for cutting costs more than looking."""
    return ibis.cases((text.startswith(" ") | text.endswith(" "), trim(text)), else_=text)


def _one_of(text: Any, words: list[str]) -> Any:
    """Whether a text is one of some short words; the length is asked first, for it is quick."""
    return (text.length() <= max(map(len, words)) + 2) & text.re_search(rf"(?i)^\s*({'|'.join(map(re.escape, words))})\s*$")


def _no_value(text: Any) -> Any:
    """Placeholders for nothing: a word like "n/a" or "-", or whatever stands in brackets."""
    cell = text.cast("string")
    return _one_of(cell, NO_TEXT) | (cell.startswith("(") & cell.re_search(r"^\([^()]{1,30}\)\s*$"))


def _total_row(table: ibis.Table, reading: Reading) -> Any:
    """Rows that repeat the sum of the others: a total word where an address or a day should stand."""
    keys = [name for name in ("page", "date") if name in reading.matches] or [name for name in ("query",) if name in reading.matches]
    if not keys:
        return ibis.literal(False)
    says = [_one_of(table[f"raw_{name}"].cast("string"), sorted(TOTAL_WORDS)) for name in keys]
    condition = says[0]
    for other in says[1:]:
        condition = condition | other
    return condition.fill_null(False)


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


def _completed(table: ibis.Table, reading: Reading) -> ibis.Table:
    """All columns of the kind in order, absent ones null; measures of used rows without a value count 0."""
    columns = {}
    for column in TABLES[reading.kind]:
        kind = ENGINE_TYPE[column.type]
        columns[column.name] = table[column.name].cast(kind) if column.name in table.columns else ibis.null(kind)
    for name in MEASURES.get(reading.kind, []):
        if name in reading.matches:
            columns[name] = columns[name].fill_null(0)
    if reading.kind == "hits":
        columns["path"] = columns["path"].cast("string")
    if reading.kind == "search":
        placed = columns["position"].notnull() if "position" in reading.matches else ibis.literal(False)
        columns["placed"] = ibis.cases((placed, columns["impressions"]), else_=0).cast("int64")
        columns["position_sum"] = ibis.cases(
            (placed, (columns["position"].cast("float64") * columns["impressions"].cast("float64") * FINEST).round() / FINEST), else_=0.0
        ).cast("float64")
    if reading.kind == "landings":
        _derive_engagement(columns, reading)
        says = [columns[name] for name in ("channel", "medium") if name in reading.matches]
        organic: Any = ibis.null("boolean") if not says else ibis.literal(False)
        for text in says:
            organic = organic | text.lower().re_search(ORGANIC).fill_null(False)
        columns["organic"] = organic
    return table.select(**columns, part=table.part, undated=table.undated, aside=table.aside)
