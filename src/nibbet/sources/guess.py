"""Recognises the kind of a table, and what is none: from its columns, their header words and values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from nibbet.kinds import MEASURES, TABLES
from nibbet.sources.by_values import BY_VALUES, ONCE, Match
from nibbet.sources.header_words import MONEY, NAMED, OF_CLICKS, OF_SEARCHES, OF_VISITS, counts_else, header_score, named_columns, words_of
from nibbet.sources.periods import full_years, period_in, without_period
from nibbet.sources.recognise import Reading, missing, read_as

if TYPE_CHECKING:
    from nibbet.sources.sheets import Sheet

#: how many of which columns a table must have to be of a kind, in addition to the required ones
TELLING: dict[str, tuple[int, set[str]]] = {
    "crawl": (2, {"status", "title", "h1", "canonical", "words", "inlinks", "noindex", "media", "depth"}),
    "editorial": (1, {"target_query", "published", "protected", "kind", "updated"}),
    "results": (2, {"rank", "url", "title", "kind"}),
    "hits": (1, {"status", "agent"}),
}

#: share of distinct pages below which a table lists events
OFTEN = 0.3


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
    cells = full_years(sheet.header)
    periods = {place: period for place, cell in enumerate(cells) if (period := period_in(cell)) is not None}
    if len(set(periods.values())) < 2:
        return None
    first = next(iter(periods.values()))
    header = [without_period(cell) if periods.get(place) == first else cell for place, cell in enumerate(cells)]
    return replace(sheet, header=header, hidden=sheet.hidden | {place for place, period in periods.items() if period != first})


def _is_told(sheet: Sheet, reading: Reading) -> bool:
    """Whether there is enough evidence for the kind of a table."""
    least, telling = TELLING.get(reading.kind, (0, set()))
    result = set(reading.matches)
    by_words = [match for match in reading.matches.values() if match.confidence != BY_VALUES]
    if reading.kind == "crawl" and "status" in result:
        least = 1  # status codes next to addresses occur only in a crawl or a server log
    if reading.kind == "crawl" and "index_state" in result and sheet.profiles[reading.matches["index_state"].place].index_words:
        least = 0
    if reading.kind == "crawl" and "redirect_to" in {match.column for match in by_words}:
        least = 0  # a list of old and new addresses
    if reading.kind == "editorial" and "target_query" not in result:
        subject = reading.matches["page" if "page" in result else "slug"]
        if sheet.profiles[subject.place].distinct < OFTEN:
            return False  # a list of what happened on pages, not of pages
    if reading.kind == "editorial" and any(map(_is_click, sheet.header)) and counted_else(sheet, OF_CLICKS) is not None:
        return False  # a list of posts or mails
    if reading.kind == "editorial" and not telling & {match.column for match in by_words if match.confidence >= NAMED}:
        alone = sum(seen.address > 0.8 for seen in sheet.profiles) == 1 or "page" not in result  # two columns of addresses are links
        subject = reading.matches["page" if "page" in result else "slug"]
        if any(_is_click(header) or _counts_visits(header) for header in sheet.header):
            return False
        worded = any(
            match.confidence >= NAMED for name, match in reading.matches.items() if name in {"page", "slug", "published", "updated"}
        )
        return alone and worded and sheet.profiles[subject.place].distinct > ONCE and len(telling & result) >= least
    if len(telling & result) < least:
        return False
    if reading.kind == "results" and any(_names(header, "search", ["impressions"]) for header in sheet.header):
        return False  # searches without clicks
    if reading.kind == "results" and "rank" not in {match.column for match in by_words}:
        if "rank" in reading.matches and _is_click(reading.matches["rank"].header):
            return False
        return sum(seen.address > 0.8 for seen in sheet.profiles) <= 1 and _ranks_once(sheet, reading)
    if reading.kind in ("links", "backlinks"):
        ends = [match for match in reading.matches.values() if match.column in ("source", "target", "from_url", "page")]
        counted = any(seen.whole and not seen.yes_no and not seen.status for seen in sheet.profiles)
        if _maps_redirects(sheet, reading) or (counted and all(match.confidence == BY_VALUES for match in ends)):
            return False
        return (reading.kind == "links") == _within_one_site(sheet, reading)
    if reading.kind == "landings":  # a lone count next to addresses may be anything: visits require words, a day or a channel
        if counted_else(sheet, OF_VISITS) is not None:
            return False
        searched = all(any(_names(header, "search", [name]) for header in sheet.header) for name in ("query", "position"))
        if searched and reading.matches.get("sessions") not in by_words:
            return False
        sessions = reading.matches.get("sessions")
        if sessions not in by_words and not (sessions and _counts_visits(sessions.header)) and _lists_pages(sheet, reading):
            return False
        telling = {"date", "channel", "source", "medium", "device", "engaged_sessions"}
        if "sessions" not in result:  # a bare column headed "order" may be a place in a menu
            return reading.matches["conversions"] in by_words and bool(result & {*telling, "revenue"})
        return reading.matches["sessions"] in by_words or bool(result & telling) or _counts_visits(reading.matches["sessions"].header)
    if reading.kind == "vitals":
        return len({"loading", "responding", "shifting"} & {m.column for m in by_words}) >= 2
    if reading.kind == "events":  # a text and a count next to an address may be anything
        return "event" in {m.column for m in by_words}
    if reading.kind == "demand":
        if counted_else(sheet, OF_SEARCHES) is not None:
            return False
        named = {"query", "volume"} <= {m.column for m in by_words if m.confidence >= NAMED}
        return (named or not any(seen.address > 0.8 for seen in sheet.profiles)) and (
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
    """What a table counts that is no search, and the header that shows it: see `sources.header_words`."""
    found_at = counts_else([words_of(header) for header in sheet.header], words)
    return None if found_at is None else (found_at[0], sheet.header[found_at[1]])


def _names(header: str, kind: str, columns: Sequence[str]) -> bool:
    """Whether a header names one of these columns of a kind."""
    return any(header_score(header, column) >= NAMED for column in TABLES[kind] if column.name in columns)


def _counts_visits(header: str) -> bool:
    """Whether a header names a count of visits, such as visitors or orders."""
    return _names(header, "landings", MEASURES["landings"])


def _is_click(header: str) -> bool:
    """Whether a header names clicks or impressions."""
    return _names(header, "search", MEASURES["search"])


def _is_no_click(header: str) -> bool:
    """Whether a header names a sum of money, or a column of another kind of table."""
    return MONEY.search(header) is not None or bool(named_columns(header) - set(MEASURES["search"]))


def _lists_pages(sheet: Sheet, reading: Reading) -> bool:
    """Whether each page has one row, with a day of its own, as in a list with days of publication."""
    page, day = reading.matches["page"], reading.matches.get("date")
    days = {row[day.place] for row in sheet.sample} if day is not None else set()
    return sheet.profiles[page.place].distinct > ONCE and len(days) > 1


def _ranks_once(sheet: Sheet, reading: Reading) -> bool:
    """Whether queries have several results, and hardly any rank occurs twice for one; without ranks, a header must name the query."""
    if "rank" not in reading.matches:
        return reading.matches["query"].confidence != BY_VALUES
    if sheet.profiles[reading.matches["query"].place].distinct > ONCE:
        return False
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
