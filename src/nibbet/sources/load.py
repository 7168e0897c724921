"""Finds, recognises and cleans every source in the settings."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import ibis

from nibbet.engine import key_of, program
from nibbet.errors import NibbetError, SourceError
from nibbet.kinds import COUNTED, TABLES
from nibbet.once import workers
from nibbet.sources.clean import Clean, Place, clean
from nibbet.sources.files import Limits, Plain, find_files, name_in, unpack
from nibbet.sources.guess import guess_kind
from nibbet.sources.header_words import header_score
from nibbet.sources.layouts import in_plain_rows
from nibbet.sources.packages import combined_apart, settings_beside, tables_of, with_surroundings
from nibbet.sources.parts import parts_apart
from nibbet.sources.periods import days_of_names
from nibbet.sources.profile import is_date
from nibbet.sources.recognise import Reading, missing, read_as, require_columns
from nibbet.sources.sheets import DAY_OF_FILE, Sheet, bundle, frame_sheet
from nibbet.sources.side_by_side import windows_apart
from nibbet.sources.spans import DAY_OF_ROW, with_day_of_row

if TYPE_CHECKING:
    from nibbet.config import Config, SourceSettings
    from nibbet.engine import AnyEngine, Engine, Store

Say = Callable[[str], None]


#: what tells the days of a source, and of a frame, that has none
PERIOD_LINE = "Add to its [[source]] in nibbet.toml: period = [2026-08-03, 2026-10-31]"
FRAME_DAYS = 'Add them: frame.assign(first_day="2026-08-03", last_day="2026-10-31")'


@dataclass(frozen=True)
class Understood:
    """A sheet with the settings of its source, the meaning of its columns, and the exchange rate of its currency (None: as it is)."""

    sheet: Sheet
    settings: SourceSettings
    reading: Reading
    rate: float | None = None


def read_sources(
    engine: Engine, main: AnyEngine, store: Store, config: Config, root: Path, frames: Mapping[str, Any], say: Say
) -> list[Clean]:
    """One cleaned table per file (or frame, or sheet), in the order of the settings.

    Files are read by `engine` and then stored in `main`; tables of `main` are cleaned in place. Every source is recognised before any is
    read, so that all doubts are reported at once. Raises SourceError and its subclasses; the message names file, fault and remedy.
    """
    limits = Limits(config.limits.expanded_bytes, config.limits.expansion_ratio)
    place = Place(engine, store, tuple(config.site.brand))
    there = replace(place, engine=main)
    todo: list[tuple[Place, Understood]] = []
    faults: list[NibbetError] = []

    def gathered(make: Callable[[], list[tuple[Place, Understood]]]) -> None:
        try:
            todo.extend(make())
        except NibbetError as fault:
            faults.append(fault)

    for kind, given in frames.items():
        for frame in given if isinstance(given, (list, tuple)) else [given]:
            gathered(lambda kind=kind, frame=frame: [(place, one) for one in _of_frame(place, kind, frame, limits)])  # type: ignore[misc]
    for settings in config.source:
        if settings.table is not None:
            gathered(lambda s=settings: [(there, _understood(_frame_sheet(main, s.table, main.table(s.table)), s))])  # type: ignore[misc]
        else:
            gathered(lambda s=settings: [(place, one) for one in _of_files(place, s, config, root, limits, say, faults)])  # type: ignore[misc]
    result: list[Clean] = []
    idle: dict[str, set[str]] = {}  # columns of a table with two kinds that neither uses
    for _, one in todo:
        idle[one.sheet.name] = idle.get(one.sheet.name, set(one.reading.unused)) & set(one.reading.unused)
    for at, one in [] if faults else todo:
        try:
            unused = [header for header in one.reading.unused if header in idle[one.sheet.name]]
            for cleaned in _cleaned(at, replace(one, reading=replace(one.reading, unused=unused))):
                result.append(cleaned if at.engine is main else _moved(cleaned, engine, main))
        except NibbetError as fault:
            faults.append(fault)
    if len(faults) == 1:
        raise faults[0]
    if faults:
        raise SourceError("\n".join(_once_each(faults)))
    if not any(one.kind == "search" for one in result):
        raise SourceError(
            f"{root}: no search data is named. Put a search export there, and name it in a [[source]] of nibbet.toml or run: nibbet init {root} --force"
        )
    if all(one.grain == "site" for one in result if one.kind == "search"):
        names = ", ".join(name for one in result if one.kind == "search" for name, _ in one.files[:1])
        raise SourceError(
            f"{names}: totals of the site alone, with no column for page or query, tell nothing of any page. Add an export by page or query; if a "
            'column holds them, name it in its [[source]]: columns = { page = "your header" }'
        )
    return result


def _of_files(
    place: Place, settings: SourceSettings, config: Config, root: Path, limits: Limits, say: Say, faults: list[NibbetError]
) -> list[Understood]:
    """The recognised tables in the files of a source; errors are added to `faults`."""
    paths = find_files(root, settings.files)
    say(f"reading {settings.kind}: {len(paths)} file{'s' if len(paths) > 1 else ''}")
    names = [name_in(root, path) for path in paths]
    sheets: list[Sheet] = []
    folder_settings: dict[Path, list[str]] = {}
    with workers() as pool:  # unpacking runs outside the interpreter's lock
        waiting = [
            pool.submit(_sheets, place, settings, limits, folder_settings, path, name) for path, name in zip(paths, names, strict=True)
        ]
    for one in waiting:
        try:
            sheets += one.result()
        except NibbetError as fault:
            faults.append(fault)
    rate = _exchange(settings, config)
    result = []
    for sheet in bundle(sheets):
        try:
            result.append(_understood(sheet, settings, rate))
        except NibbetError as fault:
            faults.append(fault)
    return result


def _sheets(
    place: Place, settings: SourceSettings, limits: Limits, folder_settings: dict[Path, list[str]], path: Path, name: str
) -> list[Sheet]:
    """The usable tables of a file, from the store if possible; a known file is unpacked only when its rows are read.

    folder_settings: settings already found in folders.
    """
    laid: list[Path] = []

    def unpacked() -> list[Plain]:
        plains = list(unpack(path, name, place.engine.spill, limits, place.store.digest))
        laid[:] = [plain.path for plain in plains]
        return plains

    def described() -> list[list[Any]]:
        return [
            [plain.name.removeprefix(name), plain.digest, plain.suffix, plain.size, plain.head, plain.tail, plain.unreadable]
            for plain in unpacked()
        ]

    def lay(number: int) -> Path:
        if not laid:
            unpacked()
        return laid[number]

    known = place.store.value("plain", key_of(program(), name, place.store.digest(path), limits), described)
    plains = [
        Plain(name + inner, digest, suffix, size, head, tail, partial(lay, number), unreadable)
        for number, (inner, digest, suffix, size, head, tail, unreadable) in enumerate(known)
    ]
    sheets, notes = tables_of(plains)
    chosen = _wanted(sheets, settings, name)
    if settings.kind in COUNTED and not settings.period and not all(_has_days(sheet, settings) for sheet in chosen):
        chosen = with_surroundings(chosen, sheets, settings_beside(path, folder_settings))
    if settings.period:
        chosen = [replace(sheet, period=None) for sheet in chosen]
    windows = [window for sheet in chosen for window in windows_apart(sheet, settings.kind, settings.period)]
    parts = [part for window in windows for part in parts_apart(window, settings.kind, settings.columns)]
    if notes and parts:
        parts[0] = replace(parts[0], notes=(*parts[0].notes, *notes))
    return parts


def _has_days(sheet: Sheet, settings: SourceSettings) -> bool:
    """Whether the rows of a table have days: by header and first row if these are clear, else by full recognition."""
    day = TABLES[settings.kind][0]
    for place, header in enumerate(sheet.header):
        if sheet.sample and header_score(header, day) > 0.9 and is_date(sheet.sample[0][place]):
            return True
    wider = with_day_of_row(sheet, settings.kind)
    return wider is not sheet or "date" in read_as(sheet, settings.kind, _present(settings.columns, sheet)).matches


def _moved(clean: Clean, engine: Engine, main: AnyEngine) -> Clean:
    """The same rows as tables of `main`, through Parquet files."""
    if main is engine:
        return clean
    kept = engine.keep(clean.table)
    clean.table = main.parquet([engine.spill / f"{kept.get_name()}.parquet"])
    if clean.spellings is not None:
        clean.spellings = main.frame(engine.fetch(clean.spellings))
    return clean


def _wanted(sheets: list[Sheet], settings: SourceSettings, name: str) -> list[Sheet]:
    """The tables of a file that can be of the kind; the others of a package are left out, with a note."""
    if settings.sheet is not None:
        named = [sheet for sheet in sheets if sheet.name.endswith((f"[{settings.sheet}]", f"/{settings.sheet}"))]
        if not named:
            raise SourceError(f"{name}: there is no filled sheet or table {settings.sheet!r}. It has: {', '.join(s.name for s in sheets)}.")
        return named
    if len(sheets) == 1:
        return sheets
    fitting: list[Sheet] = []
    others: list[Sheet] = []
    for sheet in sheets:
        given = _present(settings.columns, sheet)
        best = None if given else guess_kind(in_plain_rows(sheet))
        fits = not missing(read_as(sheet, settings.kind, given)) if best is None else best.kind == settings.kind
        (fitting if fits else others).append(sheet)
    if not fitting:
        return sheets[:1]
    if others:
        left = ", ".join(sheet.name.removeprefix(name).strip("/") or sheet.name for sheet in others)
        fitting[0] = replace(fitting[0], notes=(*fitting[0].notes, ("left_out", f"{name}: not read as {settings.kind}: {left}.")))
    return fitting


def _present(columns: dict[str, str], sheet: Sheet) -> dict[str, str]:
    return {name: header for name, header in columns.items() if header in sheet.header}


def _exchange(settings: SourceSettings, config: Config) -> float | None:
    """The value of one unit of the currency of the source in that of [value]; null where both are the same."""
    if settings.currency is None or settings.currency == config.value.currency:
        return None
    if settings.currency not in config.value.rates:
        raise SourceError(
            f"{', '.join(settings.files)}: revenue is in {settings.currency}, the site counts in {config.value.currency or 'no currency yet'}. "
            f'Add to nibbet.toml: [value] currency = "EUR", rates = {{ {settings.currency} = 0.9 }}'
        )
    return config.value.rates[settings.currency]


def _once_each(faults: list[NibbetError]) -> list[str]:
    """The messages, where one that many tables share stands once, with their number."""
    tables: dict[str, list[str]] = {}
    for text in dict.fromkeys(map(str, faults)):
        name, _, rest = text.partition(": ")
        tables.setdefault(rest or text, []).append(name)
    return [
        f"{names[0]}{f' and {len(names) - 1} more tables, to {names[-1]}' * (len(names) > 1)}: {rest}" if rest != names[0] else rest
        for rest, names in tables.items()
    ]


def _understood(sheet: Sheet, settings: SourceSettings, rate: float | None = None, mend: str = PERIOD_LINE) -> Understood:
    """A sheet with the meaning of its columns, combined ones split, constants added, and the days it covers; mend: what tells unknown days.

    Raises MissingColumnError and SourceError with the line that settles the fault.
    """
    constant = dict(sheet.shared) | settings.constant
    sheet = with_constants(combined_apart(in_plain_rows(sheet), settings.kind), constant)
    given = settings.columns | {name: f"constant {name}" for name in constant}
    if "date" not in given and not settings.period and sheet.period is None:
        sheet = with_day_of_row(sheet, settings.kind)
        given |= {"date": DAY_OF_ROW} if DAY_OF_ROW in sheet.header else {}
    reading = read_as(sheet, settings.kind, given)
    require_columns(sheet, reading)
    if settings.period and "date" not in reading.matches and sheet.period is None:
        sheet = replace(sheet, period=settings.period[0])
    undated = reading.kind in COUNTED and "date" not in reading.matches and sheet.period is None
    if undated and (sheet.shape or len(sheet.files) > 1) and (days := days_of_names(name for name, _ in sheet.files)):
        sheet = sheet.with_days(days)
        reading = read_as(sheet, settings.kind, given | {"date": DAY_OF_FILE})
    elif undated:
        if (odd := _no_days(sheet)) is not None:
            raise SourceError(
                f'{sheet.name}: its column "{odd[0]}" holds "{odd[1]}", which tells no days. Export it by day, week or month, or write the '
                "first and last day there (2026-08-03..2026-10-31). If all its rows may be added up, say which days they cover, in its [[source]] of "
                "nibbet.toml: period = [2026-08-03, 2026-10-31]"
            )
        raise SourceError(f"{sheet.name}: the rows carry no date, and neither the table nor its name tells which days they cover. {mend}")
    return Understood(sheet, settings, reading, rate)


def _no_days(sheet: Sheet) -> tuple[str, str] | None:
    """The header that names days above cells that are none, and the first of these cells; None without one."""
    day = next(column for column in TABLES["search"] if column.name == "date")
    named = [place for place, header in enumerate(sheet.header) if header_score(header, day) > 0.9]
    cells = [(sheet.header[place], row[place]) for place in named for row in sheet.sample if row[place].strip()]
    return next(((header, cell[:40]) for header, cell in cells if not is_date(cell)), None)


def _cleaned(place: Place, one: Understood) -> list[Clean]:
    result = clean(place, one.sheet, one.reading, one.settings)
    for part in result:
        if one.rate is not None and "revenue" in part.table.columns:
            part.table = part.table.mutate(revenue=(part.table.revenue.cast("float64") * one.rate).round(6).cast("decimal(24,6)"))
    return result


def with_constants(sheet: Sheet, constant: Mapping[str, str]) -> Sheet:
    """The sheet with a column for each constant of its source."""
    if not constant:
        return sheet
    values = list(constant.values())
    return sheet.with_columns(
        [f"constant {name}" for name in constant], lambda _: values, lambda _: [ibis.literal(value) for value in values]
    )


def _of_frame(place: Place, kind: str, frame: Any, limits: Limits) -> list[Understood]:
    from nibbet.config import SourceSettings

    if isinstance(frame, (str, Path)):
        settings = SourceSettings(kind=kind, files=[str(frame)])  # type: ignore[arg-type]
        path = Path(frame)
        if not path.is_file():
            raise SourceError(f"{kind}: there is no file {path}.")
        return [_understood(sheet, settings) for sheet in _sheets(place, settings, limits, {}, path, path.name)]
    sheet = _frame_sheet(place.engine, kind, place.engine.frame(frame))
    # Nibbet's own column names are taken literally
    columns = {column.name: column.name for column in TABLES[kind] if column.name in sheet.header}
    settings = SourceSettings(kind=kind, table=kind, columns=columns)  # type: ignore[arg-type]
    return [
        _understood(part, settings, mend=FRAME_DAYS) for window in windows_apart(sheet, kind) for part in parts_apart(window, kind, columns)
    ]


def _frame_sheet(engine: AnyEngine, name: str, table: Any) -> Sheet:
    rows = [{str(column): value for column, value in row.items()} for row in engine.fetch(table.limit(400)).to_dict("records")]
    return frame_sheet(name, table, rows)
