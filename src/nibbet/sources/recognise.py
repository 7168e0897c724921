"""What a table is and what its columns mean, told from header words and from values; never from a list of any program's columns."""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass
from functools import cache
from urllib.parse import urlsplit

import numpy as np

from nibbet.errors import MissingColumnError, SourceError
from nibbet.sources.kinds import NO_VALUE, TABLES, Column
from nibbet.sources.sheets import Sheet

ADDRESS = re.compile(r"^(https?://\S|/|//)|^[\w-]+(\.[\w-]+)*\.[a-z]{2,}(/|$|\?)", re.IGNORECASE)
NUMBER = re.compile(
    r"^[<>~≈]?\s*[-+]?[\d][\d\s.,'’\u00a0\u202f\u2009]*\s*(%|k|m|tsd\.?|mio\.?|[€$£¥])?$|^[€$£¥]\s*[\d.,\s]+$", re.IGNORECASE
)
DATE = re.compile(
    r"^\d{4}[-/.年]\d{1,2}([-/.月]\d{1,2}日?)?([T ].*)?$|^\d{1,2}[-/. ]\d{1,2}[-/. ]\d{2,4}([T ,].*)?$|^\d{8}$"
    r"|^\d{1,2}\.?[-/ ]\s*[^\W\d]{3,}\.?,?[-/ ]\s*\d{2,4}([ :].*)?$|^[^\W\d]{3,}\.?\s+\d{1,2},?\s+\d{4}$|^[^\W\d]{3,}\.?[- ]\d{4}$",
    re.IGNORECASE,
)
SERIAL = re.compile(r"^[2-6]\d{4}(\.0)?$")
DEVICES = {"mobile", "desktop", "tablet", "phone", "handy", "smartphone", "computer", "mobil", "movil", "ordinateur", "ordenador"}
SURFACES = {"web", "image", "images", "video", "videos", "news", "feed", "bild", "bilder"}
SURE, DOUBTFUL = 0.62, 0.40


@dataclass(frozen=True)
class Match:
    """What one column of a sheet was taken for; confidence runs from 0 to 1, and 1 means the user said so."""

    column: str
    header: str
    place: int
    confidence: float


@dataclass(frozen=True)
class Reading:
    """A sheet understood as one kind of table."""

    kind: str
    matches: dict[str, Match]
    score: float
    unused: list[str]

    @property
    def doubtful(self) -> list[Match]:
        """Columns whose meaning is a guess."""
        return [match for match in self.matches.values() if match.confidence < SURE]


def words_of(header: str) -> list[str]:
    """The words of a header without case, accents or punctuation."""
    split = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", header)
    plain = "".join(c for c in unicodedata.normalize("NFKD", split.casefold()) if not unicodedata.combining(c))
    return re.findall(r"[^\W_]+", unicodedata.normalize("NFC", plain))


@cache
def _phrases(column: Column) -> list[tuple[list[str], float]]:
    return [(words_of(words), 1.0 - 0.004 * order) for order, words in enumerate((column.name.replace("_", " "), *column.words))]


def header_score(header: str, column: Column) -> float:
    """0 to 1: how well the header words name the column."""
    have = words_of(header)
    best = 0.0
    for phrase, weight in _phrases(column):
        if have == phrase:
            return weight
        stems = {word.rstrip("s") for word in have}
        if phrase and {word.rstrip("s") for word in phrase} <= stems:
            best = max(best, weight * (0.55 + 0.35 * len(phrase) / len(have)))
        elif phrase and any(ord(c) > 0x2E80 for c in phrase[0]) and phrase[0] in "".join(have):
            best = max(best, weight * 0.7)
    return best


def value_score(values: list[str], column: Column) -> float:
    """-1 where the values cannot be this column, else 0 to 1: how strongly they alone point to it."""
    filled = [value.strip() for value in values if value.strip().casefold() not in NO_VALUE and not value.startswith("(")]
    if not filled:
        return 0.0
    share = {
        "address": lambda: sum(bool(ADDRESS.search(v)) for v in filled),
        "date": lambda: sum(bool(DATE.match(v)) or bool(SERIAL.match(v)) for v in filled),
        "count": lambda: sum(bool(NUMBER.match(v)) for v in filled),
        "number": lambda: sum(bool(NUMBER.match(v)) for v in filled),
        "place": lambda: sum(bool(NUMBER.match(v)) for v in filled),
    }.get(column.type)
    fits = share() / len(filled) if share else 1.0
    if share and fits < 0.6:
        return -1.0
    if column.name in ("query", "title", "h1") and sum(bool(NUMBER.match(v)) for v in filled) > 0.9 * len(filled) and len(filled) > 5:
        return -0.3
    if column.name == "page" and fits > 0.9:
        return 0.5
    if column.name == "date" and sum(bool(DATE.match(v)) for v in filled) > 0.95 * len(filled):
        return 0.5
    known = {"device": DEVICES, "surface": SURFACES}.get(column.name)
    if known and {v.casefold() for v in filled} <= known:
        return 0.5
    return 0.0


def read_as(sheet: Sheet, kind: str, given: dict[str, str] | None = None) -> Reading:
    """The best assignment of the sheet's columns to the columns of `kind`.

    Args:
        given: column -> header, as the user wrote it; these stand as they are.
    Raises:
        SourceError: a header in `given` is not in the sheet, or a column name is unknown.
    """
    columns = TABLES[kind]
    from scipy.optimize import linear_sum_assignment

    names = [column.name for column in columns]
    fixed = _given(sheet, kind, names, given or {})
    values = [[row[place] for row in sheet.sample] for place in range(len(sheet.header))]
    scores = np.zeros((len(sheet.header), len(columns)))
    for place, header in enumerate(sheet.header):
        for number, column in enumerate(columns):
            by_header, by_value = header_score(header, column), value_score(values[place], column)
            scores[place, number] = (
                0.0 if by_value == -1.0 else min(1.0, max(by_header + 0.1 * (by_value > 0) + min(by_value, 0), by_value * 0.9))
            )
    for name, place in fixed.items():
        scores[place, :], scores[:, names.index(name)] = 0.0, 0.0
        scores[place, names.index(name)] = 2.0
    rows, cols = linear_sum_assignment(-scores)
    matches = {
        names[col]: Match(names[col], sheet.header[row], int(row), float(min(1.0, scores[row, col])))
        for row, col in zip(rows, cols, strict=True)
        if scores[row, col] >= DOUBTFUL
    }
    taken = {match.place for match in matches.values()}
    return Reading(kind, matches, sum(m.confidence for m in matches.values()), [h for p, h in enumerate(sheet.header) if p not in taken])


def _given(sheet: Sheet, kind: str, names: list[str], given: dict[str, str]) -> dict[str, int]:
    fixed = {}
    for name, header in given.items():
        if name not in names:
            raise SourceError(f"{sheet.name}: columns names {name!r}, which {kind} does not have. It has: {', '.join(names)}.")
        if header not in sheet.header:
            raise SourceError(
                f"{sheet.name}: columns says {name} = {header!r}, but the file has no such header. It has: {', '.join(sheet.header)}."
            )
        fixed[name] = sheet.header.index(header)
    return fixed


def missing(reading: Reading) -> list[str]:
    """Columns without which the table cannot serve as its kind."""
    lacking = [column.name for column in TABLES[reading.kind] if column.required and column.name not in reading.matches]
    if reading.kind == "search" and not {"page", "query"} & set(reading.matches):
        lacking.append("page")
    return lacking


def require_columns(sheet: Sheet, reading: Reading) -> None:
    """Raises MissingColumnError, with the line to add, when the sheet lacks what its kind needs."""
    if lacking := missing(reading):
        guess = next((header for header in reading.unused), "your header")
        raise MissingColumnError(
            f"{sheet.name}: no column for {', '.join(lacking)} was recognised, and {reading.kind} cannot do without. "
            f"Its headers: {', '.join(sheet.header[:14])}. If one of them is it, add to its [[source]] in nibbet.toml: "
            f'columns = {{ {lacking[0]} = "{guess}" }}; else export it again with that column.',
            sheet.name,
            lacking,
        )


def guess_kind(sheet: Sheet) -> Reading | None:
    """The kind of table that explains the sheet best; null where none fits."""
    if sheet.kind is not None:
        return read_as(sheet, sheet.kind)
    readings = [reading for kind in TABLES if kind not in ("sitemap", "robots") if not missing(reading := read_as(sheet, kind))]
    fitting = [
        reading
        for reading in readings
        if len(TELLING.get(reading.kind, (0, set()))[1] & set(reading.matches)) >= TELLING.get(reading.kind, (0,))[0]
    ]
    fitting = [
        reading
        for reading in fitting
        if reading.kind not in ("links", "backlinks") or (reading.kind == "links") == _within_one_site(sheet, reading)
    ]
    return max(fitting, key=lambda reading: (reading.score - 0.25 * len(reading.unused), reading.kind), default=None)


#: how many of which columns a table must have to be of a kind, besides those it cannot do without
TELLING: dict[str, tuple[int, set[str]]] = {
    "crawl": (2, {"status", "title", "h1", "canonical", "words", "inlinks"}),
    "editorial": (1, {"target_query", "published", "protected", "kind", "updated"}),
    "results": (2, {"rank", "url", "title", "kind"}),
    "hits": (1, {"status", "agent"}),
}


def _within_one_site(sheet: Sheet, reading: Reading) -> bool:
    """Whether most links of the sheet stay on the host they start from."""
    ends = [name for name in ("source", "target", "from_url", "page") if name in reading.matches]
    hosts = [[urlsplit(row[reading.matches[name].place]).hostname for row in sheet.sample] for name in ends]
    same = sum(a is None or b is None or a.removeprefix("www.") == b.removeprefix("www.") for a, b in zip(*hosts, strict=True))
    return same * 2 > len(sheet.sample)
