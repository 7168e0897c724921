"""The typed rows of one sheet, and the reason for each that cannot be used."""

from __future__ import annotations

import re
from functools import reduce
from operator import or_
from typing import TYPE_CHECKING, Any

import ibis
import pandas as pd
from ibis import _

from nibbet.core.brand import is_brand
from nibbet.errors import SourceError
from nibbet.kinds import COUNTED, MEASURES, TABLES
from nibbet.sources.cells import ENGINE_TYPE, flag_cell, no_value, number_cell, one_of, query_cell, text_cell, trim
from nibbet.sources.conventions import (
    ISO_DAY,
    days_of_text,
    decimal_evidence,
    decimal_mark,
    misfits,
    sample_days,
    sample_mark,
    sample_style,
)
from nibbet.sources.periods import are_periods
from nibbet.sources.profile import ASSET
from nibbet.sources.recognise import Reading
from nibbet.sources.sheets import MORE, SESSIONS_BY_ROW, TEXTS, Cells, Sheet
from nibbet.sources.value_words import ORGANIC, OTHER_CHANNEL, TOTAL_WORDS

if TYPE_CHECKING:
    from collections.abc import Sequence

    from nibbet.config import SourceSettings
    from nibbet.engine import AnyEngine
    from nibbet.sources.periods import Period

#: a larger count is an error in the file: all sums stay exact below it
MOST = 10**13
_TOTALS = "|".join(map(re.escape, sorted({*TOTAL_WORDS, "ergebnis"}, key=len, reverse=True)))
#: the total of one name: "/a/ Total" or, in other languages, "Total /a/"
SUBTOTAL = rf"(?i)\S\s+(?:{_TOTALS})\s*$|^\s*(?:{_TOTALS})\s+\S"
LONGEST_TOTAL = max(map(len, TOTAL_WORDS)) + 2


def opened(engine: AnyEngine, sheet: Sheet, reading: Reading, cells: Cells = TEXTS, at: slice = slice(None)) -> ibis.Table:
    """The recognised columns under their names, part, and MORE where rows may have more cells than headers."""
    table = sheet.open(engine, cells, at)  # type: ignore[arg-type]
    more = [MORE] if MORE in table.columns else []
    columns = {match.column: table[f"c{match.place}"] for match in reading.matches.values()}
    for name in ("page", "path"):
        if "host" in columns and name in columns:
            columns[name] = _on_host(columns[name], columns["host"])
    return table.select(*more, part=table.part.cast("int32"), **columns)


def _on_host(path: Any, host: Any) -> Any:
    """A path as an address on the host beside it: the same path on another host is another page."""
    bare, host = path.strip(), host.strip().lower()
    both = bare.re_search("^/([^/]|$)") & host.re_search(r"^[a-z0-9_-]+(\.[a-z0-9_-]+)+(:\d+)?$")
    return ibis.cases((both.fill_null(False), ibis.literal("https://").concat(host, bare)), else_=path)


def plain_cells(sheet: Sheet, reading: Reading, settings: SourceSettings) -> Cells | None:
    """How the engine can type cells while parsing, if the sample of a text file has plain numbers and days of one format throughout; else
    None.

    This saves reading numbers and days a second time.
    """
    columns = {column.name: column.type for column in TABLES[reading.kind]}
    types: dict[int, str] = {}
    forms: set[str | None] = set()
    marks: set[str] = {settings.decimal} if settings.decimal else set()
    for name, match in reading.matches.items():
        cells = [row[match.place] for row in sheet.sample]
        if columns[name] == "date":
            forms.add(sample_days(cells, [row[match.place] for row in sheet.last], settings.dates))
            types[match.place] = "DATE"
        elif columns[name] in ("count", "number", "place"):
            style = sample_style(cells)
            if not any(cells) or style == "general" or (style != "whole" and (columns[name] == "count" or sample_mark(cells) != style)):
                return None
            marks |= {style} - {"whole"}
            types[match.place] = "DECIMAL(18,6)" if columns[name] == "number" else "DOUBLE"  # wider types are far slower
    if sheet.shape is None or not sheet.sample or not types or None in forms or len(forms) > 1 or len(marks) > 1:
        return None
    return Cells(types, next(iter(forms)) or "" if forms else "", next(iter(marks), "."))


def typed_rows(
    engine: AnyEngine,
    brand: Sequence[str],
    raw: ibis.Table,
    sheet: Sheet,
    reading: Reading,
    settings: SourceSettings,
    *,
    as_is: Sequence[str] = (),
) -> ibis.Table:
    """All rows with typed columns, and aside with the reason for those that cannot be used; text columns named `as_is` are unchanged.

    Also: page_key, a number for each spelling that identifies the page; for search brand, whether the query contains it.
    """
    typed, faults = _typed(engine, raw, sheet, reading, settings)
    typed = {name: cell for name, cell in typed.items() if name not in as_is}
    table = raw.mutate(**{f"raw_{name}": raw[name] for name in reading.matches})
    table = _with_days(engine, table, sheet, reading, settings)
    table = table.mutate(**typed)
    asides: list[tuple[Any, str]] = [(_total_row(table, sheet, reading), "total row"), (_blank_row(table, reading), "not a data row")]
    asides += [(longer, "more cells than headers") for longer in _longer(table)]
    asides += [
        (table[name].isnull() & table[f"raw_{name}"].notnull() & ~no_value(table[f"raw_{name}"]), f"unreadable {name}")
        for name in faults
        if not raw[name].type().is_date()
    ]
    counted = [name for name in MEASURES.get(reading.kind, []) if name in reading.matches]
    asides += [(table[name] < 0, f"negative {name}") for name in counted if name != "revenue"]  # refunds may exceed sales
    asides += [(table[name] > MOST, f"impossible {name}") for name in counted]
    if reading.kind == "crawl":
        asides += _no_pages(table)
    asides += _unpublished(table, reading)
    asides += [(_left_out(table, name, wanted), f"left out by where: {name}") for name, wanted in settings.where.items()]
    reason = ibis.cases(*asides, else_=ibis.null("string"))
    table = table.mutate(aside=ibis.cases((_is_suspect(table, sheet, reading, settings), reason), else_=ibis.null("string")))
    more: dict[str, Any] = {}
    if reading.kind in MEASURES and "page" in reading.matches:
        more["page_key"] = engine.key(table.page)
    if reading.kind == "search" and "query" in reading.matches and brand:
        more["brand"] = is_brand(table["query"], brand)
    part = {"part": table.part} if len(sheet.files) > 1 else {}
    if "until" in table.columns:
        more["until"] = table.until
    return table.select(*reading.matches, "aside", **part, **more)


def _longer(table: ibis.Table) -> list[Any]:
    """Whether a row has more cells than headers, such as one with an unquoted separator: none of its cells can be trusted."""
    return [(table[MORE] != "").fill_null(False)] if MORE in table.columns else []


def _no_pages(table: ibis.Table) -> list[tuple[Any, str]]:
    """Rows of a crawl that are no pages, by media type and file extension: images, style sheets, scripts."""
    result: list[tuple[Any, str]] = []
    if "media" in table.columns:
        page = table.media.lower().re_search(
            r"^(text/html|application/xhtml|application/pdf|text/plain|application/msword|application/vnd)"
        )
        result.append((table.media.notnull() & (table.media != "") & ~page, "no page, by its media type"))
    if "page" in table.columns:
        result.append((table.page.re_search(ASSET), "no page, by its address"))
    return result


#: the state of pages that nobody can see, without blanks and accents
UNPUBLISHED = frozenset(
    "draft drafts autodraft private trash trashed deleted pending scheduled future unpublished hidden inactive disabled offline review inreview no false 0 "
    "entwurf privat geplant papierkorb ausstehend geloscht nein brouillon prive corbeille planifie enattente non borrador privado papelera programado pendiente "
    "rascunho lixeira agendado nao bozza privato cestino programmato concept gepland prullenbak nee utkast kladde planlagt nej nei luonnos szkic koncept "
    "taslak черновик 下書き 非公開 草稿 초안 비공개".split()
)


def _unpublished(table: ibis.Table, reading: Reading) -> list[tuple[Any, str]]:
    """Rows of a list that a content system holds and nobody can see, such as drafts."""
    if "state" not in reading.matches:
        return []
    word = table.state.lower().re_replace(r"[^\pL\pN]", "")
    plain = word.translate("äáàâãéèêëíìîïóòôöõúùûüñçå", "aaaaaeeeeiiiiooooouuuunca")
    return [(plain.isin(sorted(UNPUBLISHED)).fill_null(False), "not published")]


#: rows of a sheet up to which repeated ones are searched
MOST_COMPARED = 300_000


def repeats(engine: AnyEngine, table: ibis.Table, sheet: Sheet, reading: Reading) -> list[tuple[str, str]]:
    """A note where rows of a small table repeat others in every column, the hour of the day among them; it does not name the table, because
    tables of equal content share it.
    """
    if (day := reading.matches.get("date")) is not None and len({row[day.place].strip()[10:] for row in (*sheet.sample, *sheet.last)}) > 1:
        return []
    if any(code == SESSIONS_BY_ROW for code, _ in sheet.notes):
        return []
    used = table.filter(table.aside.isnull())
    if reading.kind not in MEASURES or int(engine.fetch(table.aggregate(n=table.count()))["n"].iloc[0]) > MOST_COMPARED:
        return []
    whole = [name for name in (*reading.matches, "part") if name in used.columns]
    several = used.group_by(whole).aggregate(times=used.count()).filter(_.times > 1)
    extra = int(engine.fetch(several.aggregate(n=(_.times - 1).sum().coalesce(0)))["n"].iloc[0])
    rows, they, them = ("row repeats", "It is", "it") if extra == 1 else ("rows repeat", "They are", "them")
    text = f"{extra:,} {rows} another row in every column. {they} added up; if the export was pasted twice, remove {them}."
    return [("repeated", text)] if extra else []


def hidden_values(engine: AnyEngine, raw: ibis.Table, reading: Reading) -> list[tuple[str, str]]:
    """A note where a source writes small numbers as "<10", or a word in place of a number; they count 0. It does not name the table."""
    names = [name for name in MEASURES.get(reading.kind, []) if name in reading.matches and raw[name].type().is_string()]
    if not names:
        return []
    small = {f"small_{name}": trim(raw[name]).startswith("<").cast("int64").sum().coalesce(0) for name in names}
    words = {f"word_{name}": ((raw[name] != "") & no_value(raw[name])).cast("int64").sum().coalesce(0) for name in names}
    result = engine.fetch(raw.aggregate(**small, **words)).iloc[0]
    notes = [
        ("thresholded", f'{int(result[f"small_{name}"]):,} values of {name} are hidden (as "<10") and count 0.')
        for name in names
        if result[f"small_{name}"]
    ]
    return notes + [
        ("no_number", f"{int(result[f'word_{name}']):,} cells of {name} are not numbers (such as n/a or nan) and count as 0.")
        for name in names
        if result[f"word_{name}"]
    ]


def _typed(
    engine: AnyEngine, raw: ibis.Table, sheet: Sheet, reading: Reading, settings: SourceSettings
) -> tuple[dict[str, Any], list[str]]:
    """Column expressions by name, and the columns in which texts may be unreadable."""
    columns = {column.name: column for column in TABLES[reading.kind]}
    numbers = [name for name in reading.matches if columns[name].type in ("count", "number", "place")]
    styles = _styles(engine, raw, sheet, reading, [name for name in numbers if raw[name].type().is_string()], settings)
    typed: dict[str, Any] = {}
    for name in reading.matches:
        cell, kind = raw[name], columns[name].type
        if kind in ("count", "number", "place"):
            typed[name] = number_cell(columns[name], cell, styles.get(name, ""))
        elif kind == "flag":
            typed[name] = flag_cell(name, cell, reading.matches[name].header, reverse=name in settings.reverse)
        elif kind != "date":
            typed[name] = query_cell(cell.cast("string")) if name == "query" else text_cell(cell.cast("string"))
    must = [name for name in numbers if name in MEASURES.get(reading.kind, [])] + (
        ["date"] if reading.kind in MEASURES and "date" in reading.matches else []
    )
    return typed, must


def _styles(
    engine: AnyEngine, raw: ibis.Table, sheet: Sheet, reading: Reading, names: list[str], settings: SourceSettings
) -> dict[str, str]:
    """How each number column is written: plain (whole, `.`, `,`) where every cell keeps to it, else `general.` or `general,`.

    A lone group of three digits after a mark is a fraction only where another cell of the file proves the mark.
    """
    if not names:
        return {}
    cells = {name: [row[reading.matches[name].place] for row in sheet.sample] for name in names}
    style = {name: sample_style(cells[name]) for name in names}
    result = engine.fetch(raw.aggregate(**{name: misfits(trim(raw[name]), style[name]) for name in names})).iloc[0]
    mark = settings.decimal or sample_mark([cell for name in names for cell in cells[name]])
    if mark is None or any(result[name] and style[name] != "general" for name in names):
        texts = [trim(raw[name]) for name in names if style[name] != "whole" or result[name]]
        counts = [sum((decimal_evidence(text, sign) for text in texts), ibis.literal(0)) for sign in ",."]
        sums = engine.fetch(raw.aggregate(comma=counts[0], point=counts[1])).iloc[0] if texts else {"comma": 0, "point": 0}
        mark = settings.decimal or decimal_mark(
            int(sums["comma"]), int(sums["point"]), comma_cells=sheet.shape is not None and sheet.shape.delimiter == ";"
        )
    whole = {column.name for column in TABLES[reading.kind] if column.type == "count"}
    for name in names:
        kept = style[name] == "whole" or (style[name] == mark and name not in whole)
        if style[name] == "general" or result[name] or not kept:
            style[name] = "general" + mark
    return style


def _with_days(engine: AnyEngine, table: ibis.Table, sheet: Sheet, reading: Reading, settings: SourceSettings) -> ibis.Table:
    """The table with its date columns as days; each distinct text is read once, and all together decide the convention."""
    for name, match in reading.matches.items():
        if next(c for c in TABLES[reading.kind] if c.name == name).type != "date":
            continue
        cell = table[name]
        if cell.type().is_numeric():  # 20261031, or seconds
            cell = cell.cast("int64").cast("string")
            table = table.mutate(**{name: cell})
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
        days = days_of_text(texts, where=sheet.name, header=match.header, order=settings.dates)
        read = pd.DataFrame({"text": list(days), "day_read": [a for a, _ in days.values()], "until": [b for _, b in days.values()]})
        known = engine.frame(read.astype({"text": "str", "day_read": "datetime64[us]", "until": "datetime64[us]"}))
        known = known.mutate(day_read=_.day_read.cast("date"), until=_.until.cast("date"))
        if not are_periods(days.values()) or reading.kind not in COUNTED:
            known = known.drop("until")
        table = table.left_join(known, cell == known.text).drop("text", name).rename({name: "day_read"})
    return table


def _is_suspect(table: ibis.Table, sheet: Sheet, reading: Reading, settings: SourceSettings) -> Any:
    """Whether a row may have to be set aside, by fast tests: a missing value, or a key as short as a word for a total."""
    telling = [
        column.name for column in TABLES[reading.kind] if column.name in reading.matches and column.type in ("count", "number", "date")
    ]
    empty = [table[name].isnull() for name in telling or reading.matches]
    counted = [name for name in MEASURES.get(reading.kind, []) if name in reading.matches]
    odd = [(table[name] < 0) | (table[name] > MOST) for name in counted if name != "revenue"]
    odd += [table["revenue"] > MOST] if "revenue" in counted else []
    odd += [condition for condition, _ in _no_pages(table)] if reading.kind == "crawl" else []
    odd += [condition for condition, _ in _unpublished(table, reading)]
    short = [table[f"raw_{name}"].length() <= LONGEST_TOTAL for name in _total_keys(reading) if table[f"raw_{name}"].type().is_string()]
    return reduce(
        or_,
        [
            *empty,
            *short,
            *odd,
            *_longer(table),
            *_subtotals(table, sheet, reading),
            *(_left_out(table, name, wanted) for name, wanted in settings.where.items()),
        ],
    )


def _from_search(says: list[Any], organic: Sequence[str]) -> Any:
    """Whether a visit came from unpaid search, by what its channel and medium say.

    Of each text one expression over it alone, which the engine computes once for each of its few values.
    """
    if organic:
        names = [one.strip().lower() for one in organic]
        return reduce(or_, [text.strip().lower().isin(names).fill_null(False) for text in says])
    lower = [text.lower() for text in says]
    ranks = [ibis.cases((text.re_search(OTHER_CHANNEL), 2), (text.re_search(ORGANIC), 1), else_=0) for text in lower]
    return ibis.greatest(*ranks) == 1


def _total_keys(reading: Reading) -> list[str]:
    return [name for name in ("page", "date") if name in reading.matches] or [name for name in ("query",) if name in reading.matches]


def _total_row(table: ibis.Table, sheet: Sheet, reading: Reading) -> Any:
    """Rows that repeat the sum of the others: a total word where an address or a day should stand, alone or behind one."""
    cells = [table[f"raw_{name}"] for name in _total_keys(reading)]
    says = [~cell.startswith("/") & one_of(cell, sorted(TOTAL_WORDS)) for cell in cells if cell.type().is_string()]
    return reduce(or_, [*says, *_subtotals(table, sheet, reading)], ibis.literal(False))


def _subtotals(table: ibis.Table, sheet: Sheet, reading: Reading) -> list[Any]:
    """Whether a row is the total of one page or day ("/a/ total"), in a sheet whose first or last rows have one."""
    keys = [reading.matches[name] for name in _total_keys(reading) if name != "query"]
    shown = [key for key in keys if any(re.search(SUBTOTAL, row[key.place]) for row in (*sheet.sample, *sheet.last))]
    return [
        table[f"raw_{key.column}"].re_search(SUBTOTAL).fill_null(False) for key in shown if table[f"raw_{key.column}"].type().is_string()
    ]


def _blank_row(table: ibis.Table, reading: Reading) -> Any:
    """Rows in which nothing but notes stands: neither a key nor a measure."""
    columns = [column for column in TABLES[reading.kind] if column.name in reading.matches]
    keys = [
        column.name
        for column in columns
        if column.name in ("page", "slug", "query", "date") or (column.required and column.type != "count")
    ]
    needed = [column.name for column in columns if column.required and column.type == "count"]
    condition = ibis.literal(True)
    for name in needed or keys:
        condition = condition & table[name].isnull() & (table[f"raw_{name}"].isnull() | no_value(table[f"raw_{name}"]))
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
    values = [value.lower() for value in ([wanted] if isinstance(wanted, str) else wanted)]
    cell = table[name].cast("string").lower()
    patterns = [".*".join(map(re.escape, value.split("*"))) for value in values if "*" in value]
    kept = [cell.isin([value for value in values if "*" not in value]), *(cell.re_search(f"^{pattern}$") for pattern in patterns)]
    return ~reduce(or_, kept).fill_null(False)


def completed(table: ibis.Table, reading: Reading, period: Period | None, organic: Sequence[str] = ()) -> ibis.Table:
    """All columns of the kind in order, absent ones null; measures of used rows without a value count 0; undated rows get the last day of
    their period, of the table or in `until`.

    organic: the channels and media of unpaid search; told by their words where none are named.
    """
    columns = {}
    for column in TABLES[reading.kind]:
        kind = ENGINE_TYPE[column.type]
        columns[column.name] = table[column.name].cast(kind) if column.name in table.columns else ibis.null(kind)
    given = "until" in table.columns
    undated = given or (period is not None and "date" not in reading.matches and reading.kind in COUNTED)
    start = columns["date"] if given else ibis.literal(period[0], "date") if undated and period else ibis.null("date")
    if reading.kind == "demand" and period and "month" not in reading.matches:
        columns["month"] = ibis.literal(period[0], "date")
    if undated:
        columns["date"] = table.until if given else ibis.literal(period[1], "date")  # type: ignore[index]
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
        columns["organic"] = _from_search(says, organic) if says else ibis.null("boolean")
        if "channel" not in reading.matches:
            columns["channel"] = columns["medium"]
        columns["source"] = columns["source"].strip().lower().re_replace(r"^www\.", "")  # one sender, however it is written
    part = table.part if "part" in table.columns else ibis.literal(0, "int32")
    return table.select(**columns, part=part, aside=table.aside, undated=ibis.literal(undated), start=start)
