"""Recognises the meaning of the columns of a table, from header words and values; never from the column list of any program."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from nibbet.errors import MissingColumnError, SourceError
from nibbet.kinds import MEASURES, TABLES, TIMES, Column
from nibbet.sources.by_values import BY_VALUES, ONCE, SAID, ByValues, Match
from nibbet.sources.header_words import header_score, is_denied, is_negated, words_of
from nibbet.sources.profile import Profile, is_ratio

if TYPE_CHECKING:
    from nibbet.sources.sheets import Sheet

SURE, DOUBTFUL = 0.62, 0.40


@dataclass(frozen=True)
class Reading:
    """A sheet recognised as one kind of table.

    `unused` are the headers of unused columns, those with values of a flag, an address or a count first; `twice` the columns
    not used because several with different values have the same header.
    """

    kind: str
    matches: dict[str, Match]
    score: float
    unused: list[str]
    twice: tuple[tuple[str, str], ...] = ()

    @property
    def doubtful(self) -> list[Match]:
        """Columns whose meaning is a guess."""
        return [match for match in self.matches.values() if match.confidence < SURE]


#: hosts of a site in a sample; more are those of visitors
MOST_OWN_HOSTS = 20
#: states of publication that one content system knows
MOST_STATES = 12
#: combinations of words that the `rel` attributes of the links of a site have
MOST_RELATIONS = 40
#: text columns of words or sentences, never of addresses, numbers, days or media types
WORDY = ("query", "title", "h1", "description", "headings", "anchor", "place", "target_query")
#: columns that header words must name outright, since others hold the like
BY_NAME_ALONE = ("host", "state", "slug")
#: characters from which a cell is the text of a page, not a label
TEXT_LENGTH = 40


def value_score(seen: Profile, column: Column, by_header: float = 0.0) -> float:
    """-1 where the values exclude this column, else 0 to 1: how strongly they suggest it by themselves; by_header: how well its header names it."""
    if not seen.filled:
        return 0.0
    if column.name == "host" and seen.distinct * seen.filled > MOST_OWN_HOSTS:
        return -1.0
    if column.name == "status" and seen.number > 0.9:
        codes = seen.numbers[seen.numbers > 0]  # 0 is what nobody requested
        if codes.size and np.mean((codes >= 100) & (codes < 600)) < 0.6:
            return -1.0  # how often, not what was answered
    if column.type == "address":
        if by_header >= SAID and seen.bare_path:
            return 0.0
        return -1.0 if seen.address < 0.6 else 0.5 if column.name == "page" and seen.address > 0.9 else 0.0
    if column.type == "date":
        if by_header >= SAID and seen.serial:
            return 0.0
        return -1.0 if seen.date < 0.6 else 0.5 if column.name == "date" and seen.date > 0.95 else 0.0
    if column.type in ("count", "number", "place"):
        known = seen.numbers[~np.isnan(seen.numbers)]
        if (column.name in TIMES and seen.duration > 0.6) or (column.name == "volume" and seen.band > 0.6):
            return 0.0
        if seen.number < 0.6 or (column.type == "place" and len(known) and (seen.percent or float(known.max()) < 1)):
            return -1.0
        fractions = float(np.mean(known != np.floor(known))) if len(known) else 0.0
        return (
            -1.0 if column.type == "count" and not column.required and fractions > 0.5 and not seen.scaled else 0.0
        )  # sessions per user are no users
    if column.type == "flag":
        most_texts = {"protected": 2, "follow": MOST_RELATIONS}.get(column.name, 0)
        return 0.0 if seen.yes_no or seen.index_words or seen.distinct * seen.filled <= most_texts else -1.0
    if column.name == "state":
        return 0.0 if seen.yes_no or (seen.is_text and not seen.status and seen.distinct * seen.filled <= MOST_STATES) else -1.0
    if column.name == "slug":
        return 0.0 if seen.is_text and seen.words <= 1 else -1.0
    if column.name == "media":
        return 0.5 if seen.media > 0.6 else -1.0
    if seen.media > 0.5 or (column.name == "text" and seen.length < TEXT_LENGTH):
        return -1.0
    if column.name == "trail" and (max(seen.address, seen.number, seen.date) > 0.5 or seen.yes_no):
        return -1.0
    if column.name in WORDY and seen.filled > 5 and max(seen.number, seen.date) > 0.9:
        return -0.3
    return 0.5 if (column.name == "device" and seen.device) or (column.name == "surface" and seen.surface) else 0.0


def read_as(sheet: Sheet, kind: str, given: dict[str, str] | None = None) -> Reading:
    """The best assignment of the columns of the sheet to those of `kind`: by header words, then by values for the rest.

    Args:
        given: column -> header (or "#3" for the third column), as set by the user; these are final.
    Raises:
        SourceError: a header in `given` is not in the sheet, or a column name is unknown.
    """
    from scipy.optimize import linear_sum_assignment

    columns = TABLES[kind]
    names = [column.name for column in columns]
    fixed = _given(sheet, kind, names, given or {})
    seen = sheet.profiles
    scores = np.zeros((len(sheet.header), len(columns)))
    needed = {column.name for column in columns if column.required and column.type == "address"}
    # an empty column with a suitable name does not count
    given_elsewhere = sum(one.filled > 0 and one.address > 0.6 for one in seen) >= len(needed)
    for place, header in enumerate(sheet.header):
        if place in sheet.hidden:
            continue
        for number, column in enumerate(columns):
            by_header = header_score(header, column)
            by_value = value_score(seen[place], column, by_header)
            if by_header < SAID and (column.name in BY_NAME_ALONE or is_denied(header, column)):
                continue
            if column.name == "index_state" and seen[place].yes_no and is_negated(header):
                continue  # a yes under "Not indexed" is no state of the index
            scores[place, number] = (
                0.0
                if by_value == -1.0 or (given_elsewhere and column.name in needed and not seen[place].filled)
                else min(1.0, max(by_header + 0.1 * (by_value > 0) + min(by_value, 0), by_value * 0.9))
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
    matches, twice = _without_twins(sheet, matches, fixed)
    words = [words_of(header) for header in sheet.header]
    twins = {place for place in range(len(words)) if words[place] and words.count(words[place]) > 1}
    matches = ByValues(sheet.header, sheet.sample, seen, matches, twins | sheet.hidden, set(fixed)).fill(kind)
    if kind in MEASURES and _is_of_pages(matches, seen, fixed):
        del matches["date"]
    matches = {name: matches[name] for name in names if name in matches and name not in _mirrored(matches, seen, fixed)}
    taken = {match.place for match in matches.values()}
    spare = [place for place in range(len(sheet.header)) if place not in taken and place not in sheet.hidden]
    if {"clicks", "impressions"} <= set(matches):  # a rate proven by its parts adds nothing
        a, b = (seen[matches[name].place] for name in ("clicks", "impressions"))
        spare = [place for place in spare if seen[place].number < 0.9 or not is_ratio(seen[place], a, b)]
    telling = [place for place in spare if seen[place].yes_no or seen[place].address > 0.6 or seen[place].whole]
    unused = [sheet.header[place] or f"column {place + 1}" for place in (*telling, *(p for p in spare if p not in telling))]
    return Reading(kind, matches, sum(m.confidence for m in matches.values()), unused, twice)


def _is_of_pages(matches: dict[str, Match], seen: Sequence[Profile], fixed: dict[str, int]) -> bool:
    """Whether a column of days without header words is one of pages (when they were last seen, or published): each page has one row."""
    day, page = matches.get("date"), matches.get("page")
    by_values = day is not None and "date" not in fixed and day.confidence <= BY_VALUES
    return by_values and page is not None and seen[page.place].distinct > ONCE


#: the two meanings of bounce: a column that equals 1 minus the engaged share does not count single-page sessions
MIRRORS = {"single_page_share": "engaged_share", "single_page_sessions": "engaged_sessions"}


def _mirrored(matches: dict[str, Match], seen: Sequence[Profile], fixed: dict[str, int]) -> set[str]:
    """Columns with a bounce header that equal, row by row, the whole minus the engaged part."""
    result = set()
    for name, other in MIRRORS.items():
        if {name, other, "sessions"} <= set(matches) and name not in fixed:
            one, rest, sessions = (seen[matches[column].place].numbers for column in (name, other, "sessions"))
            sums = one + rest
            whole = sessions if name == "single_page_sessions" else np.full(len(sums), 100.0 if np.nanmax(sums, initial=0) > 2 else 1.0)
            usable = ~np.isnan(sums) & ~np.isnan(whole) & (sessions > 0)
            if usable.sum() >= 5 and bool(np.all(np.abs(sums[usable] - whole[usable]) <= 0.011 * whole[usable])):
                result.add(name)
    return result


def _without_twins(sheet: Sheet, matches: dict[str, Match], fixed: dict[str, int]) -> tuple[dict[str, Match], tuple[tuple[str, str], ...]]:
    """The matches without those whose header also heads another column with different values."""
    words = [words_of(header) for header in sheet.header]

    def has_twin(match: Match) -> bool:
        mine = [row[match.place] for row in sheet.sample]
        return any(
            other != match.place
            and other not in sheet.hidden
            and words[other]
            and words[other] == words[match.place]
            and [row[other] for row in sheet.sample] != mine
            for other in range(len(words))
        )

    twice = [name for name, match in matches.items() if name not in fixed and has_twin(match)]
    return {name: match for name, match in matches.items() if name not in twice}, tuple((name, matches[name].header) for name in twice)


# -- what the user said, and what is missing -----------------------------------------------------------------------------------------------


def _given(sheet: Sheet, kind: str, names: list[str], given: dict[str, str]) -> dict[str, int]:
    fixed = {}
    for name, header in given.items():
        if name not in names:
            raise SourceError(f"{sheet.name}: columns names {name!r}, which {kind} does not have. It has: {', '.join(names)}.")
        if header in sheet.header:
            fixed[name] = sheet.header.index(header)
        elif (number := re.fullmatch(r"#(\d+)", header)) and 1 <= int(number[1]) <= len(sheet.header):
            fixed[name] = int(number[1]) - 1
        else:
            raise SourceError(
                f"{sheet.name}: columns says {name} = {header!r}, but the file has no such header. It has: {', '.join(sheet.header)}."
            )
    return fixed


#: possible subjects of search rows; totals of a site, of its days or countries are useful too
SUBJECTS = {"page", "query", "date", "country", "device", "surface"}


def missing(reading: Reading) -> list[str]:
    """Required columns that the table lacks for its kind."""
    given = set(reading.matches) | ({"page"} if reading.kind == "editorial" and "slug" in reading.matches else set())
    lacking = [column.name for column in TABLES[reading.kind] if column.required and column.name not in given]
    if reading.kind == "landings" and "conversions" in given:  # orders by page, beside sessions in another table
        lacking = [name for name in lacking if name != "sessions"]
    if reading.kind == "search" and not SUBJECTS & set(reading.matches):
        lacking.append("page")
    if reading.kind == "vitals":
        lacking += [] if {"page", "group"} & set(reading.matches) else ["page"]
        lacking += [] if {"loading", "responding", "shifting"} & set(reading.matches) else ["loading"]
    return lacking


def require_columns(sheet: Sheet, reading: Reading) -> None:
    """Raises MissingColumnError, with the line to add, if the sheet lacks required columns."""
    lacking = missing(reading)
    if not lacking:
        return
    twice = dict(reading.twice)
    if named := [name for name in lacking if name in twice]:
        places = [n + 1 for n, header in enumerate(sheet.header) if words_of(header) == words_of(twice[named[0]])]
        raise MissingColumnError(
            f'{sheet.name}: {len(places)} columns of different values are headed "{twice[named[0]]}", and {named[0]} can be any of them. '
            f'Say by its place which: columns = {{ {named[0]} = "#{places[0]}" }}',
            sheet.name,
            lacking,
        )
    columns = {column.name: column for column in TABLES[reading.kind]}
    taken = {match.place for match in reading.matches.values()}
    fits = [
        header
        for place, header in enumerate(sheet.header)
        if place not in taken and place not in sheet.hidden and header and _could_be(sheet.profiles[place], columns[lacking[0]])
    ]
    mend = (
        f'If one of them is it, add to its [[source]] in nibbet.toml: columns = {{ {lacking[0]} = "{fits[0]}" }}; else export it again with that column.'
        if fits
        else "None of them has such values: export it again with that column, or take the file out of its [[source]] in nibbet.toml."
    )
    raise MissingColumnError(
        f"{sheet.name}: no column for {', '.join(lacking)} was recognised, and {reading.kind} cannot do without. "
        f"Its headers: {', '.join(header for header in sheet.header[:14] if header)}. {mend}",
        sheet.name,
        lacking,
    )


def _could_be(seen: Profile, column: Column) -> bool:
    if value_score(seen, column) < 0 or not seen.filled:
        return False
    return seen.whole and seen.date < 0.9 if column.type == "count" else seen.is_text if column.type == "text" else True
