"""Recognises the kind of a table and the meaning of its columns, from header words and values; never from the column list of any program."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache, lru_cache
from typing import TYPE_CHECKING

import numpy as np

from nibbet.errors import MissingColumnError, SourceError
from nibbet.kinds import MEASURES, TABLES, TIMES, Column
from nibbet.sources.by_values import BY_VALUES, ONCE, SAID, ByValues, Match
from nibbet.sources.foreign import OF_CLICKS, OF_SEARCHES, counts_else
from nibbet.sources.periods import period_in, without_period
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


#: letters with a bar or without their dot, which Unicode does not decompose
BARRED = str.maketrans("ıłøđ", "ilod")


def words_of(header: str) -> list[str]:
    """The words of a header without case, accents or punctuation."""
    split = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", header)
    plain = "".join(c for c in unicodedata.normalize("NFKD", split.casefold().translate(BARRED)) if not unicodedata.combining(c))
    return re.findall(r"[^\W_]+", unicodedata.normalize("NFC", plain))


#: header words that restrict a count to a part
PART_ONLY = {"new", "returning", "neue", "wiederkehrende", "nouveaux", "nuevos", "recurrentes", "nuovi", "nieuwe", "first", "unique"}


@dataclass(frozen=True)
class _Phrase:
    """Header words of a column: the words, their stems, their weight, and whether their script has no blanks."""

    words: list[str]
    stems: frozenset[str]
    weight: float
    is_joined: bool


@cache
def _phrases(column: Column) -> list[_Phrase]:
    names = [words_of(words) for words in (column.name.replace("_", " "), *column.words)]
    return [
        _Phrase(words, frozenset(word.rstrip("s") for word in words), 1.0 - 0.004 * order, any(ord(c) > 0x2E80 for c in words[0]))
        for order, words in enumerate(names)
        if words
    ]


@lru_cache(maxsize=20_000)
def header_score(header: str, column: Column) -> float:
    """0 to 1: how well the header words name the column."""
    have = words_of(header)
    stems, joined = {word.rstrip("s") for word in have}, "".join(have)
    part_words = PART_ONLY & set(have) if column.type == "count" else set()
    best = 0.0
    for phrase in _phrases(column):
        if joined == "".join(phrase.words):  # also where words are written as one, or apart
            return phrase.weight
        if part_words.difference(phrase.words):
            continue
        if phrase.stems <= stems:
            best = max(best, phrase.weight * (0.55 + 0.35 * len(phrase.words) / len(have)))
        elif phrase.is_joined and phrase.words[0] in joined:
            best = max(best, phrase.weight * 0.7)
    return best


#: hosts of a site in a sample; more are those of visitors
MOST_OWN_HOSTS = 20
#: states of publication that one content system knows
MOST_STATES = 12
#: text columns of words or sentences, never of addresses, numbers, days or media types
WORDY = ("query", "title", "h1", "description", "headings", "anchor", "place", "target_query")
#: columns that header words must name outright, since others hold the like
BY_NAME_ALONE = ("host", "state", "slug")
#: characters from which a cell is the text of a page, not a label
TEXT_LENGTH = 40


def value_score(seen: Profile, column: Column) -> float:
    """-1 where the values exclude this column, else 0 to 1: how strongly they suggest it by themselves."""
    if not seen.filled:
        return 0.0
    if column.name == "host" and seen.distinct * seen.filled > MOST_OWN_HOSTS:
        return -1.0
    if column.type == "address":
        return -1.0 if seen.address < 0.6 else 0.5 if column.name == "page" and seen.address > 0.9 else 0.0
    if column.type == "date":
        return -1.0 if seen.date < 0.6 else 0.5 if column.name == "date" and seen.date > 0.95 else 0.0
    if column.type in ("count", "number", "place"):
        known = seen.numbers[~np.isnan(seen.numbers)]
        if (column.name in TIMES and seen.duration > 0.6) or (column.name == "volume" and seen.band > 0.6):
            return 0.0
        if seen.number < 0.6 or (column.type == "place" and len(known) and (seen.percent or float(known.max()) < 1)):
            return -1.0
        return 0.0
    if column.type == "flag":
        return 0.0 if seen.yes_no or seen.index_words or (column.name == "protected" and seen.distinct * seen.filled <= 2) else -1.0
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
            by_header, by_value = header_score(header, column), value_score(seen[place], column)
            if column.name in BY_NAME_ALONE and by_header < SAID:
                continue
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
    matches = {name: matches[name] for name in names if name in matches and name not in _mirrored(matches, seen, fixed)}
    taken = {match.place for match in matches.values()}
    spare = [place for place in range(len(sheet.header)) if place not in taken and place not in sheet.hidden]
    if {"clicks", "impressions"} <= set(matches):  # a rate proven by its parts adds nothing
        a, b = (seen[matches[name].place] for name in ("clicks", "impressions"))
        spare = [place for place in spare if seen[place].number < 0.9 or not is_ratio(seen[place], a, b)]
    telling = [place for place in spare if seen[place].yes_no or seen[place].address > 0.6 or seen[place].whole]
    unused = [sheet.header[place] or f"column {place + 1}" for place in (*telling, *(p for p in spare if p not in telling))]
    return Reading(kind, matches, sum(m.confidence for m in matches.values()), unused, twice)


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


# -- kinds ---------------------------------------------------------------------------------------------------------------------------------

#: score from which a header names a column, if with other words
NAMED = 0.7
#: how many of which columns a table must have to be of a kind, in addition to the required ones
TELLING: dict[str, tuple[int, set[str]]] = {
    "crawl": (2, {"status", "title", "h1", "canonical", "words", "inlinks", "noindex", "media", "depth"}),
    "editorial": (1, {"target_query", "published", "protected", "kind", "updated"}),
    "results": (2, {"rank", "url", "title", "kind"}),
    "hits": (1, {"status", "agent"}),
}


def guess_kind(sheet: Sheet) -> Reading | None:
    """The kind of table that fits the sheet best, or the first of several windows in it; null for none."""
    if sheet.kind is not None:
        return read_as(sheet, sheet.kind)
    readings = [reading for kind in TABLES if kind not in ("sitemap", "robots") if not missing(reading := read_as(sheet, kind))]
    fitting = [reading for reading in readings if _is_told(sheet, reading)]
    fitting = [reading for reading in fitting if not _contradicted(reading, fitting)] or fitting
    best = max(fitting, key=lambda reading: (_weight(reading), reading.kind), default=None)
    return guess_kind(window) if best is None and (window := _first_window(sheet)) is not None else best


def _weight(reading: Reading) -> float:
    """How much speaks for a reading. A title and a state of publication say nothing for a list of editors, since inventories have them too."""
    shared = {"title", "state"} if reading.kind == "editorial" else set()
    weight = sum(match.confidence for name, match in reading.matches.items() if name not in shared)
    return weight - 0.25 * len(reading.unused)


def _contradicted(reading: Reading, others: Sequence[Reading]) -> bool:
    """Whether a required column was taken by its values alone, although its header names a required column of another kind that fits."""
    taken = {match.place for match in _required(reading) if match.confidence == BY_VALUES}
    named = {match.place for other in others for match in _required(other) if match.confidence >= NAMED}
    return bool(taken & named)


def _required(reading: Reading) -> list[Match]:
    return [reading.matches[column.name] for column in TABLES[reading.kind] if column.required and column.name in reading.matches]


def _first_window(sheet: Sheet) -> Sheet | None:
    """The columns of the first of several windows side by side, with those of none; null for fewer than two in the headers."""
    periods = {place: period for place, cell in enumerate(sheet.header) if (period := period_in(cell)) is not None}
    if len(set(periods.values())) < 2:
        return None
    first = next(iter(periods.values()))
    header = [without_period(cell) if periods.get(place) == first else cell for place, cell in enumerate(sheet.header)]
    return replace(sheet, header=header, hidden=sheet.hidden | {place for place, period in periods.items() if period != first})


def _is_told(sheet: Sheet, reading: Reading) -> bool:
    """Whether there is enough evidence for the kind of a table."""
    least, telling = TELLING.get(reading.kind, (0, set()))
    result = set(reading.matches)
    by_words = [match for match in reading.matches.values() if match.confidence != BY_VALUES]
    if reading.kind == "crawl" and "status" in result:
        least = 1  # status codes next to addresses occur only in a crawl or a server log
    if reading.kind == "crawl" and "redirect_to" in {match.column for match in by_words}:
        least = 0  # a list of old and new addresses
    if reading.kind == "editorial" and any(map(_is_click, sheet.header)) and counted_else(sheet, OF_CLICKS) is not None:
        return False  # a list of posts or mails
    if reading.kind == "editorial" and not telling & {match.column for match in by_words}:
        alone = sum(seen.address > 0.8 for seen in sheet.profiles) == 1 or "page" not in result  # two columns of addresses are links
        subject = reading.matches["page" if "page" in result else "slug"]
        if any(_is_click(header) or _counts_visits(header) for header in sheet.header):
            return False
        return alone and sheet.profiles[subject.place].distinct > ONCE and len(telling & result) >= least
    if len(telling & result) < least:
        return False
    if reading.kind == "results" and "rank" not in {match.column for match in by_words}:
        if "rank" in reading.matches and _is_click(reading.matches["rank"].header):
            return False
        return sum(seen.address > 0.8 for seen in sheet.profiles) <= 1 and _ranks_once(sheet, reading)
    if reading.kind in ("links", "backlinks"):
        if _maps_redirects(sheet, reading):
            return False
        return (reading.kind == "links") == _within_one_site(sheet, reading)
    if reading.kind == "landings":  # a lone count next to addresses may be anything: visits require words, a day or a channel
        telling = {"date", "channel", "source", "medium", "device", "engaged_sessions"}
        if "sessions" not in result:  # a bare column headed "order" may be a place in a menu
            return reading.matches["conversions"] in by_words and bool(result & {*telling, "revenue"})
        return reading.matches["sessions"] in by_words or bool(result & telling) or _counts_visits(reading.matches["sessions"].header)
    if reading.kind == "vitals":
        return len({"loading", "responding", "shifting"} & {m.column for m in by_words}) >= 2
    if reading.kind == "events":  # a text and a count next to an address may be anything
        return "event" in {m.column for m in by_words}
    if reading.kind == "demand" and counted_else(sheet, OF_SEARCHES) is not None:
        return False
    if reading.kind == "demand":
        return not any(seen.address > 0.8 for seen in sheet.profiles) and (
            bool({"query", "volume"} & {m.column for m in by_words}) or "month" in result
        )
    if reading.kind == "search":
        if counted_else(sheet, OF_CLICKS) is not None:
            return False
        named = bool({"clicks", "impressions"} & {m.column for m in by_words})
        if not named and counted_else(sheet, OF_SEARCHES) is not None:
            return False
        counts = [match for match in _required(reading) if match.column in MEASURES["search"]]
        return named or (bool(result & {"page", "query", "date"}) and not any(_is_no_click(m.header) for m in counts))
    return True


def counted_else(sheet: Sheet, words: dict[str, str]) -> tuple[str, str] | None:
    """What a table counts that is no search, and the header that shows it: see `sources.foreign`."""
    found_at = counts_else([words_of(header) for header in sheet.header], words)
    return None if found_at is None else (found_at[0], sheet.header[found_at[1]])


def _counts_visits(header: str) -> bool:
    """Whether a header names a count of visits, such as visitors or orders."""
    counts = [column for column in TABLES["landings"] if column.name in MEASURES["landings"]]
    return any(header_score(header, column) >= NAMED for column in counts)


def _is_click(header: str) -> bool:
    """Whether a header names clicks or impressions."""
    return any(header_score(header, column) >= NAMED for column in TABLES["search"] if column.name in MEASURES["search"])


def _is_no_click(header: str) -> bool:
    """Whether a header names a count of another kind of table, or a position."""
    others = [column for kind in ("demand", "results", "search") for column in TABLES[kind] if column.type in ("count", "place", "number")]
    others = [column for column in others if column.name not in MEASURES["search"]]
    return _counts_visits(header) or any(header_score(header, column) >= NAMED for column in others)


def _ranks_once(sheet: Sheet, reading: Reading) -> bool:
    """Whether hardly any rank occurs twice for one query, as in results; without ranks, a header must name the query."""
    if "rank" not in reading.matches:
        return reading.matches["query"].confidence != BY_VALUES
    keys = [(row[reading.matches["query"].place], row[reading.matches["rank"].place]) for row in sheet.sample]
    return len(set(keys)) > ONCE * len(keys)


def _maps_redirects(sheet: Sheet, reading: Reading) -> bool:
    """Whether a table of links is a list of redirects: each address leads to one other, and all are redirects."""
    source = reading.matches.get("source") or reading.matches.get("from_url")
    moved = any(seen.redirects for seen in sheet.profiles)
    return moved and source is not None and sheet.profiles[source.place].distinct > ONCE


def _within_one_site(sheet: Sheet, reading: Reading) -> bool:
    """Whether most links of the sheet stay on their host."""
    from urllib.parse import urlsplit

    ends = [name for name in ("source", "target", "from_url", "page") if name in reading.matches]

    def host(cell: str) -> str | None:
        try:
            return urlsplit(cell).hostname
        except ValueError:
            return None

    hosts = [[host(row[reading.matches[name].place]) for row in sheet.sample] for name in ends]
    if any(not any(of) for of in hosts) and any(len({one for one in of if one}) > 1 for of in hosts):
        return False  # paths of this site beside addresses of several hosts
    same = sum(a is None or b is None or a.removeprefix("www.") == b.removeprefix("www.") for a, b in zip(*hosts, strict=True))
    return bool(same * 2 > len(sheet.sample))
