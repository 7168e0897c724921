"""The content of a folder: every usable table with its kind, grain, period and doubts, and why the others are not usable."""

from __future__ import annotations

import contextlib
import json
import re
from collections import Counter, defaultdict
from dataclasses import dataclass, field, replace
from datetime import date
from itertools import permutations
from pathlib import Path
from urllib.parse import urlsplit

import numpy as np
import pandas as pd

from nibbet.core.join.grain import step_of
from nibbet.errors import SourceError
from nibbet.kinds import ADDRESSES, COUNTED, MEASURES, TABLES
from nibbet.sources.conventions import days_of_text
from nibbet.sources.files import PACKED, READABLE, Limits, unpack
from nibbet.sources.guess import counted_else, guess_kind
from nibbet.sources.header_words import OF_CLICKS, OF_SEARCHES, OF_VISITS, header_score
from nibbet.sources.headers import bare_periods
from nibbet.sources.layouts import in_plain_rows
from nibbet.sources.months import WEEK
from nibbet.sources.packages import combined_apart, settings_beside, tables_of, with_surroundings
from nibbet.sources.parts import parts_apart
from nibbet.sources.periods import Period, are_periods, days_of_names
from nibbet.sources.profile import Profile, holds_addresses_and_texts
from nibbet.sources.recognise import Reading, missing, read_as
from nibbet.sources.sheets import Sheet
from nibbet.sources.side_by_side import windows_apart
from nibbet.sources.spans import DAY_OF_ROW, with_day_of_row
from nibbet.sources.standards import is_log
from nibbet.sources.surroundings import is_settings, page_of_name, settings_lines, shared_values

#: rows of each table in which hosts are searched
LOOKED_AT = 60
#: confidence from which a header names its column outright
PLAIN = 0.9
#: share of a column's cells that are numbers from which it holds them; share that are days from which it may be one of days
FULL, MOST_DAYS = 0.9, 0.5
#: different texts from which a column may hold queries
QUERIES = 8


@dataclass(frozen=True)
class Entry:
    """One table: the file it lies in, its own name, its kind and columns, the days it covers where its rows have none, what all rows share, and the step
    of its dates and the last day in a sample of them; day: of all its rows, by the name of the file.
    """

    file: str
    table: str
    reading: Reading
    periods: tuple[Period | None, ...] = ()
    constant: dict[str, str] = field(default_factory=dict)
    step: str = "day"
    last: date | None = None
    day: date | None = None

    @property
    def grain(self) -> str:
        """The subject of a row, for display: "page x query by day"."""
        has = self.reading.matches
        if self.reading.kind not in MEASURES:
            return ""
        about = [name for name in ("page", "query") if name in has or name in self.constant] or ["site"]  # type: ignore[list-item]
        split = [
            name for name in ("date", "country", "device", "surface", "channel", "source") if name in has or (name == "date" and self.day)
        ]
        return " x ".join(about) + (" by " + ", ".join(self.step if name == "date" else name for name in split) if split else "")

    @property
    def is_undated(self) -> bool:
        """Whether its rows need a period."""
        return self.reading.kind in COUNTED and "date" not in self.reading.matches and self.day is None


@dataclass
class Survey:
    """The content of a folder: entries, what was left out and why, hosts with their frequency, and sampled queries; by host, its paths,
    the pages that inventories list, and the hosts to which they redirect.
    """

    entries: list[Entry]
    left_out: list[tuple[str, str]]
    hosts: Counter[str]
    queries: list[str]
    paths: defaultdict[str, set[str]] = field(default_factory=lambda: defaultdict(set))
    listed: Counter[str] = field(default_factory=Counter)
    moved: defaultdict[str, Counter[str]] = field(default_factory=lambda: defaultdict(Counter))

    def sources(self, root: Path) -> list[tuple[str, list[Entry]]]:
        """The entries that make one source, of one kind with files that match one pattern; (pattern, entries), in the order of the files."""
        kinds: defaultdict[str, defaultdict[str, set[str]]] = defaultdict(lambda: defaultdict(set))
        for entry in self.entries:
            kinds[_digits_out(entry.file)][entry.file].add(entry.reading.kind)
        result: dict[tuple[str, str, str], list[Entry]] = {}
        for entry in self.entries:
            each = list(kinds[_digits_out(entry.file)].values())
            mixed = any(own != each[0] for own in each)
            pattern = entry.file if entry.constant or mixed else _pattern(entry.file, root)
            result.setdefault((pattern, entry.reading.kind, repr(sorted(entry.constant.items()))), []).append(entry)
        return [(pattern, entries) for (pattern, _, _), entries in result.items()]


def survey(root: Path, spill: Path, limits: Limits) -> Survey:
    """Surveys `root` and its subfolders, except hidden ones and Nibbet's own; archives are unpacked into `spill`."""
    result = Survey([], [], Counter(), [])
    known: dict[tuple[str, tuple[str, ...]], Reading | None] = {}
    folder_settings: dict[Path, list[str]] = {}
    for path in sorted(p for p in root.rglob("*") if p.is_file() and _is_candidate(p, root)):
        name = str(path.relative_to(root))
        try:
            sheets, notes = tables_of(list(unpack(path, name, spill, limits, lambda _: "")))
        except SourceError as fault:
            result.left_out.append((name, str(fault).removeprefix(f"{name}: ")))
            continue
        result.left_out += [(name, text.removeprefix("left out: ")) for _, text in notes]
        entries = []
        for sheet in map(in_plain_rows, sheets):
            shape = (_digits_out(name), tuple(sheet.header))
            if shape not in known:
                known[shape] = guess_kind(sheet)
            reading = known[shape]
            if reading is None:
                result.left_out.append((sheet.name, _why_not(sheet)))
                continue
            if reading.kind in COUNTED and "date" not in reading.matches and with_day_of_row(sheet, reading.kind) is sheet:
                sheet = with_surroundings([sheet], sheets, settings_beside(path, folder_settings))[0]
            entries.append(_entry(name, sheet, sheets, reading))
            if (kept := _kept_by_editors(sheet, reading)) is not None:
                used = {match.header for match in kept.matches.values()}
                rest = [header for header in reading.unused if header not in used]
                entries[-1] = replace(entries[-1], reading=replace(reading, unused=rest))
                entries.append(Entry(name, sheet.name, kept, (None,)))
            _look_at(result, sheet, reading)
        result.entries += entries
    return replace(result, entries=_with_days(result.entries))


def _with_days(entries: list[Entry]) -> list[Entry]:
    """The entries, with the days of those that are a series of one file, member of an archive or sheet a day."""
    series: defaultdict[tuple[str, str], list[int]] = defaultdict(list)
    for number, entry in enumerate(entries):
        if entry.is_undated and not any(entry.periods):
            series[(_digits_out(entry.file), entry.reading.kind)].append(number)
    result = list(entries)
    for numbers in series.values():
        alone = len({entries[number].file for number in numbers}) == len(numbers)
        names = [entries[number].file if alone else entries[number].table for number in numbers]
        for number, day in zip(numbers, days_of_names(names) or (), strict=False):
            result[number] = replace(entries[number], day=day, last=day)
    return result


def _kept_by_editors(sheet: Sheet, reading: Reading) -> Reading | None:
    """An inventory read as an editorial list too, if it has a column that protects pages or names their target query."""
    if reading.kind != "crawl":
        return None
    kept = read_as(sheet, "editorial")
    named = {match.column for match in kept.matches.values() if match.confidence >= PLAIN}
    spare = {name: match for name, match in kept.matches.items() if name in {"page", "protected", "target_query"}}
    return replace(kept, matches=spare, unused=[]) if named & {"protected", "target_query"} else None


def _why_not(sheet: Sheet) -> str:
    """Why a table is not usable."""
    columns = f"(columns: {', '.join(sheet.header[:8])})"
    if is_settings(sheet):
        return f"a table of settings {columns}"
    mixed = next((header for header, seen in zip(sheet.header, sheet.profiles, strict=True) if holds_addresses_and_texts(seen)), None)
    if mixed is not None:
        return f'"{mixed}" holds addresses and other texts below each other {columns}. Give each a column of its own (in a pivot table: the tabular form)'
    months = bare_periods(sheet.header)
    if len(months) >= 2:
        return (
            f"a column for each of {len(months)} periods ({months[0]} to {months[-1]}), and nothing names what is counted. Write it above or "
            f'before each, as "clicks {months[0]}", with the other measures beside it, or export a row for each page and month'
        )
    searched = {"clicks", "query"} & {name for name, match in read_as(sheet, "search").matches.items() if match.confidence >= PLAIN}
    for words in (OF_CLICKS, OF_SEARCHES) if searched else ():
        if (other := counted_else(sheet, words)) is not None:
            return f'it counts {"clicks of " * (words is OF_CLICKS)}{other[0]} ("{other[1]}"), not of search results {columns}'
    if (other := counted_else(sheet, OF_VISITS)) is not None:
        return f'it counts {other[0]} ("{other[1]}"), not visits {columns}'
    if near := _nearest(sheet):
        kind, lacking = near
        column = next(column for column in TABLES[kind] if column.name == lacking)
        cells = [sheet.sample[0][place] for place, header in enumerate(sheet.header) if header_score(header, column) > PLAIN]
        fault = f'its {lacking} read "{cells[0][:40]}"' if cells else f"no column has its {lacking}"
        return f"it would be {kind}, but {fault} {columns}. Export it with {'plain ' if cells else ''}{lacking}"
    addresses = [place for place, seen in enumerate(sheet.profiles) if seen.address > 0.8]
    visits = read_as(sheet, "landings")
    if {"page", "conversions"} <= set(visits.matches) and "sessions" not in visits.matches:
        header = visits.matches["conversions"].header
        return (
            f"it has conversions of pages, but neither days nor sessions {columns}. Export it by day, or read it as events: "
            f'[[source]] kind = "events", files = "...", columns = {{ count = "{header}" }}, constant = {{ event = "{header}" }}'
        )
    counts = [
        place for place, seen in enumerate(sheet.profiles) if seen.whole and not (seen.yes_no or seen.status) and seen.date < MOST_DAYS
    ]
    if example := _searches(sheet, addresses, counts):
        return f'no kind of table was recognised {columns}. If it holds searches, add: [[source]] kind = "search", files = "...", {example}'
    if len(addresses) == 1 and counts:
        most = max(counts, key=lambda place: float(np.nansum(sheet.profiles[place].numbers)))
        example = f'columns = {{ page = "{sheet.header[addresses[0]]}", sessions = "{sheet.header[most]}" }}'
        return f'no kind of table was recognised {columns}. If it holds visits, add: [[source]] kind = "landings", files = "...", {example}'
    return f"no kind of table was recognised {columns}"


def _searches(sheet: Sheet, addresses: list[int], counts: list[int]) -> str | None:
    """The columns of a search table whose headers say nothing: texts beside positions or of many values, and a count that is never above another,
    as clicks are never above impressions; None for another table.
    """
    ranks = [place for place, seen in enumerate(sheet.profiles) if _is_rank(seen) and place not in counts]
    texts = [
        place for place, seen in enumerate(sheet.profiles) if seen.is_text and (len(ranks) == 1 or seen.distinct * seen.filled >= QUERIES)
    ]
    figures = {place: np.nan_to_num(sheet.profiles[place].numbers) for place in counts}
    within = [
        (part, whole)
        for part, whole in permutations(counts, 2)
        if (figures[part] <= figures[whole]).all() and figures[whole].all() and 0 < figures[part].sum() < figures[whole].sum()
    ]
    if len(texts) != 1 or len(within) != 1:
        return None
    places = {"query": texts[0], "clicks": within[0][0], "impressions": within[0][1]}
    places |= {name: at[0] for name, at in (("page", addresses), ("position", ranks)) if len(at) == 1}
    return f"columns = {{ {', '.join(f'{name} = {json.dumps(sheet.header[place], ensure_ascii=False)}' for name, place in places.items())} }}"


def _is_rank(seen: Profile) -> bool:
    """Whether all numbers of a column can be mean positions."""
    known = seen.numbers[~np.isnan(seen.numbers)]
    return seen.number > FULL and not seen.percent and seen.date < MOST_DAYS and bool(len(known)) and known.min() >= 1 and known.max() <= 100


def _nearest(sheet: Sheet) -> tuple[str, str] | None:
    """The kind of which three columns are plain, and the only column that it lacks."""
    readings = [(reading, missing(reading)) for kind in TABLES if kind not in ("sitemap", "robots") for reading in [read_as(sheet, kind)]]
    near = [
        (reading, lacking)
        for reading, lacking in readings
        if len(lacking) == 1 and sum(match.confidence >= PLAIN for match in reading.matches.values()) >= 3
    ]
    best = max(near, key=lambda one: one[0].score, default=None)
    return None if best is None else (best[0].kind, best[1][0])


def _entry(name: str, sheet: Sheet, package: list[Sheet], reading: Reading) -> Entry:
    parts = windows_apart(sheet, reading.kind)
    with contextlib.suppress(SourceError):  # loading tells it
        parts = [part for window in parts for part in parts_apart(window, reading.kind)]
    if reading.kind == "demand":
        reading = read_as(parts[0], reading.kind)
    elif len(parts) > 1 or parts[0] is not sheet:
        reading = guess_kind(parts[0]) or reading
    elif (wider := combined_apart(sheet, reading.kind)) is not sheet:
        reading = guess_kind(wider) or reading
    if not any(part.period for part in parts) and (wider := with_day_of_row(parts[0], reading.kind)) is not parts[0]:
        sheet, reading = wider, read_as(wider, reading.kind, {"date": DAY_OF_ROW})
    lines = [*sheet.lines, *(line for other in package if is_settings(other) for line in settings_lines(other))]
    shared = shared_values(lines) if reading.kind in MEASURES else {}
    if reading.kind == "search" and "query" in reading.matches and "page" not in reading.matches and (page := page_of_name(name)):
        shared.setdefault("page", page)
    declared = {name: value for name, value in shared.items() if name not in reading.matches and _has_column(reading.kind, name)}
    return Entry(name, sheet.name, reading, tuple(part.period for part in parts), declared, *_dates(sheet, reading))


def _dates(sheet: Sheet, reading: Reading) -> tuple[str, date | None]:
    """day, week, month or period: the interval between the dates of the first and last rows; day where they cannot be read yet. And the
    last day that they cover.
    """
    if "date" not in reading.matches:
        return "day", None
    place = reading.matches["date"].place
    texts = set(sheet.column(place)) if sheet.column else {row[place] for row in (*sheet.sample, *sheet.last) if place < len(row)}
    weeks = all(re.match(WEEK, text, re.IGNORECASE) for text in texts if text)
    try:
        spans = days_of_text(sorted(texts), where=sheet.name, header=sheet.header[place]).values()
    except SourceError:
        return "week" if weeks else "day", None
    days = pd.Series([first for first, _ in spans], dtype="object")
    if are_periods(spans):
        return "period", max(last for _, last in spans)
    step = "week" if weeks else step_of(days)
    last = pd.Timestamp(days.max()) if days.notna().any() else None
    return step, last and (last + pd.Timedelta(days=6 * (step == "week")) if step != "month" else last.to_period("M").end_time).date()


def _has_column(kind: str, name: str) -> bool:
    return any(column.name == name for column in TABLES[kind])


def _look_at(survey: Survey, sheet: Sheet, reading: Reading) -> None:
    """Counts the hosts of addresses of the site in a sample, and keeps its queries."""
    for name in ADDRESSES.get(reading.kind, ()):
        if name in reading.matches and not (reading.kind == "links" and name == "target"):
            for cell in _with_scheme(_cells(sheet, reading.matches[name].place)):
                if host := _host(cell):
                    survey.hosts[host] += 1
                    survey.listed[host.removeprefix("www.")] += (reading.kind, name) == ("crawl", "page")
                    survey.paths[host].add(cell.partition("://")[2].partition("/")[2].partition("?")[0].strip("/").lower())
    if reading.kind == "crawl" and {"page", "redirect_to"} <= set(reading.matches):
        ends = zip(*(_cells(sheet, reading.matches[name].place) for name in ("page", "redirect_to")), strict=True)
        for start, end in ((_host(a), _host(b)) for a, b in ends if a.strip() and b.strip()):
            if start and end:
                survey.moved[start.removeprefix("www.")][end.removeprefix("www.")] += 1
    if reading.kind == "search" and "query" in reading.matches:
        place = reading.matches["query"].place
        survey.queries += [row[place] for row in sheet.sample if place < len(row)]


def _cells(sheet: Sheet, place: int) -> list[str]:
    """The cells of a column in the first rows."""
    return [row[place] if place < len(row) else "" for row in sheet.sample[:LOOKED_AT]]


def _with_scheme(cells: list[str]) -> list[str]:
    """Addresses written as host and path alone, as whole ones, where all of a column are."""
    bare = [re.match(r"(?:[a-z0-9-]+\.)+[a-z]{2,}/", cell.strip(), re.IGNORECASE) for cell in cells if cell.strip()]
    return [f"https://{cell.strip()}" for cell in cells] if bare and all(bare) else cells


def _host(cell: str) -> str | None:
    try:
        return urlsplit(cell).hostname
    except ValueError:
        return None


def _digits_out(name: str) -> str:
    return re.sub(r"\*(?:[-_. ]?\*)+", "*", re.sub(r"\d+", "*", name))


def _pattern(name: str, root: Path) -> str:
    """The name with its numbers as *, if several files match that and no other does; else the name. Names with special characters of patterns
    are unchanged.
    """
    if re.search(r"[\[\]*?]", name):
        return name
    pattern = _digits_out(name)
    alike = [_digits_out(str(path.relative_to(root))) == pattern for path in root.glob(pattern)]
    return pattern if pattern != name and len(alike) > 1 and all(alike) else name


def _is_candidate(path: Path, root: Path) -> bool:
    parts = path.relative_to(root).parts
    if any(part.startswith((".", "~")) or part == "out" for part in parts):
        return False
    return path.suffix.lower() in READABLE | PACKED or ("log" in path.name.lower() and _holds_log(path))


def _holds_log(path: Path) -> bool:
    """Whether a file is a server log whatever its extension, such as access_log, or access.log.1 after rotation."""
    try:
        with path.open("rb") as file:
            return is_log(file.read(20_000).decode("latin-1"))
    except OSError:
        return False
