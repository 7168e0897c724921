"""Every source of the settings, found, understood and cleaned."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from nibbet.engine import key_of, program
from nibbet.errors import SourceError
from nibbet.sources.clean import Clean, Place, clean
from nibbet.sources.files import PACKED, READABLE, Limits, Plain, find_files, name_in, unpack
from nibbet.sources.kinds import TABLES
from nibbet.sources.read import read_sheets
from nibbet.sources.recognise import Reading, guess_kind, missing, read_as, require_columns
from nibbet.sources.sheets import Sheet, bundle, frame_sheet

if TYPE_CHECKING:
    from nibbet.config import Config, SourceSettings
    from nibbet.engine import AnyEngine, Engine, Store

Say = Callable[[str], None]


def read_sources(
    engine: Engine, main: AnyEngine, store: Store, config: Config, root: Path, frames: Mapping[str, Any], say: Say
) -> list[Clean]:
    """One cleaned table per file (or frame, or sheet), in the order of the settings.

    Files are read by `engine` and then lie in `main`; tables of `main` are cleaned where they are. Raises SourceError and its kin; the message names file, fault and mend.
    """
    limits = Limits(config.limits.expanded_bytes, config.limits.expansion_ratio)
    place = Place(engine, store, tuple(config.site.brand))
    found: list[Clean] = []
    for kind, frame in frames.items():
        found += [_moved(one, engine, main) for one in _from_frame(place, kind, frame, limits)]
    for settings in config.source:
        if settings.table is not None:
            there = replace(place, engine=main)
            found.append(_cleaned(there, _frame_sheet(main, settings.table, main.table(settings.table)), settings))
            continue
        sheets: list[Sheet] = []
        paths = find_files(root, settings.files)
        say(f"reading {settings.kind}: {len(paths)} file{'s' if len(paths) > 1 else ''}")
        names = [name_in(root, path) for path in paths]
        with ThreadPoolExecutor() as pool:  # unpacking runs outside the interpreter's lock
            for found_there in pool.map(partial(_sheets, place, settings, limits), paths, names):
                sheets += found_there
        rate = _exchange(settings, config)
        found += [_moved(_cleaned(place, sheet, settings, rate), engine, main) for sheet in bundle(sheets)]
    if not any(one.kind == "search" for one in found):
        raise SourceError(f"{root}: no search data is named. Put a search export there and run: nibbet init")
    return found


def _sheets(place: Place, settings: SourceSettings, limits: Limits, path: Path, name: str) -> list[Sheet]:
    """The sheets of a file that serve; what the store knows of it is enough, and it is unpacked only when its rows are read."""
    laid: list[Path] = []

    def unpacked() -> list[Plain]:
        plains = list(unpack(path, name, place.engine.spill, limits, place.store.digest))
        laid[:] = [plain.path for plain in plains]
        return plains

    def told() -> list[list[Any]]:
        return [[plain.name.removeprefix(name), plain.digest, plain.suffix, plain.size, plain.head, plain.tail] for plain in unpacked()]

    def lay(number: int) -> Path:
        if not laid:
            unpacked()
        return laid[number]

    known = place.store.value("plain", key_of(program(), name, place.store.digest(path), limits), told)
    plains = [Plain(name + inner, *rest, partial(lay, number)) for number, (inner, *rest) in enumerate(known)]
    return [sheet for plain in plains for sheet in _wanted(plain, settings)]


def _moved(found: Clean, engine: Engine, main: AnyEngine) -> Clean:
    """The same rows as tables of `main`, by way of Parquet files."""
    if main is engine:
        return found
    kept = engine.keep(found.table)
    found.table = main.parquet([engine.spill / f"{kept.get_name()}.parquet"])
    if found.met is not None:
        found.met = main.frame(engine.fetch(found.met))
    return found


def _wanted(plain: Plain, settings: SourceSettings) -> list[Sheet]:
    """The sheets of a file that serve as the kind; all when it is one, else those that have what the kind needs."""
    sheets = read_sheets(plain)
    if settings.sheet is not None:
        named = [sheet for sheet in sheets if sheet.name.endswith(f"[{settings.sheet}]")]
        if not named:
            raise SourceError(f"{plain.name}: there is no filled sheet {settings.sheet!r}. It has: {', '.join(s.name for s in sheets)}.")
        return named
    if len(sheets) == 1:
        return sheets
    fitting = [sheet for sheet in sheets if not missing(read_as(sheet, settings.kind, _present(settings.columns, sheet)))]
    return fitting or sheets[:1]


def _present(columns: dict[str, str], sheet: Sheet) -> dict[str, str]:
    return {name: header for name, header in columns.items() if header in sheet.header}


def _exchange(settings: SourceSettings, config: Config) -> float | None:
    """What one unit of the source's currency is worth in that of [value]; null where both are the same."""
    if settings.currency is None or settings.currency == config.value.currency:
        return None
    if settings.currency not in config.value.rates:
        raise SourceError(
            f"{', '.join(settings.files)}: revenue is in {settings.currency}, the site counts in {config.value.currency or 'no currency yet'}. "
            f'Add to nibbet.toml: [value] currency = "EUR", rates = {{ {settings.currency} = 0.9 }}'
        )
    return config.value.rates[settings.currency]


def _cleaned(place: Place, sheet: Sheet, settings: SourceSettings, rate: float | None = None) -> Clean:
    reading = read_as(sheet, settings.kind, settings.columns)
    require_columns(sheet, reading)
    found = clean(place, sheet, reading, settings)
    if rate is not None and "revenue" in found.table.columns:
        found.table = found.table.mutate(revenue=(found.table.revenue.cast("float64") * rate).round(6).cast("decimal(24,6)"))
    return found


def _from_frame(place: Place, kind: str, frame: Any, limits: Limits) -> list[Clean]:
    from nibbet.config import SourceSettings

    if isinstance(frame, (str, Path)):
        settings = SourceSettings(kind=kind, files=[str(frame)])  # type: ignore[arg-type]
        path = Path(frame)
        if not path.is_file():
            raise SourceError(f"{kind}: there is no file {path}.")
        return [_cleaned(place, sheet, settings) for sheet in _sheets(place, settings, limits, path, path.name)]
    sheet = _frame_sheet(place.engine, kind, place.engine.frame(frame))
    own = {column.name: column.name for column in TABLES[kind] if column.name in sheet.header}  # our own names are taken at their word
    return [_cleaned(place, sheet, SourceSettings(kind=kind, table=kind, columns=own))]  # type: ignore[arg-type]


def _frame_sheet(engine: AnyEngine, name: str, table: Any) -> Sheet:
    return frame_sheet(name, table, engine.fetch(table.limit(400)).to_dict("records"))


def survey(root: Path, engine: Engine, limits: Limits) -> tuple[list[tuple[str, Reading]], list[tuple[str, str]], Counter[str]]:
    """What lies in a folder: (pattern, reading) per kind of file that was understood, (file, why) for the others, and the hosts met.

    Files of one folder that differ only in digits make one pattern.
    """
    understood: dict[tuple[str, str], tuple[str, Reading]] = {}
    left: list[tuple[str, str]] = []
    hosts: Counter[str] = Counter()
    for path in sorted(p for p in root.rglob("*") if p.is_file() and _is_candidate(p, root)):
        name = str(path.relative_to(root))
        try:
            plains = unpack(path, name, engine.spill, limits, lambda _: "")
            sheets = [sheet for plain in plains for sheet in read_sheets(plain)]
        except SourceError as fault:
            left.append((name, str(fault)))
            continue
        readings = [(sheet, reading) for sheet in sheets if (reading := guess_kind(sheet))]
        if not readings:
            left.append((name, "no kind of table was recognised"))
            continue
        sheet, reading = max(readings, key=lambda item: item[1].score)
        if reading.kind != "backlinks" and "page" in reading.matches:
            place = reading.matches["page"].place
            hosts.update(host for row in sheet.sample if (host := urlsplit(row[place]).hostname))
        pattern = _pattern(name, root)
        key = (reading.kind, pattern)
        if key not in understood or len(reading.doubtful) > len(understood[key][1].doubtful):
            understood[key] = (pattern, reading)
    return list(understood.values()), left, hosts


def _pattern(name: str, root: Path) -> str:
    """The name with its numbers as *, when several files fit that; else the name."""
    pattern = re.sub(r"\*(?:[-_.q]?\*)+", "*", re.sub(r"\d+", "*", name))
    return pattern if pattern != name and len([*root.glob(pattern)]) > 1 else name


def _is_candidate(path: Path, root: Path) -> bool:
    parts = path.relative_to(root).parts
    return not any(part.startswith(".") or part == "out" for part in parts) and (path.suffix.lower() in READABLE | PACKED)
