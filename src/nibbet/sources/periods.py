"""The period of a table without dates, from its headers, its preamble, a table of settings or a name."""

from __future__ import annotations

import calendar
import re
import unicodedata
from collections.abc import Iterable, Sequence
from datetime import date, timedelta
from itertools import pairwise

from nibbet.sources.months import CLEAR_MONTHS as MONTHS

Period = tuple[date, date]
#: the mark between first and last day in a cell
TO = ".."
#: longest cell that tells a period and nothing else
LONGEST_SPAN = 60
_SEVERAL = re.compile(r"\d{4}.*\D.*\d{4}|(?<![^\W\d_])[qh] ?[1-4](?!\d)", re.IGNORECASE)
#: words that may stand between or before its days
_BETWEEN = set("q h to until till through from bis von au du a al de hasta tot van til do od".split())

_NAMES = "|".join(sorted((re.escape(name) for name in MONTHS), key=len, reverse=True))
_WORD = rf"(?P<name>{_NAMES})"
_DAY = re.compile(
    r"(?<!\d)(?P<y1>(?:19|20)\d{2})(?P<s1>[-_/.])(?P<m1>\d{1,2})(?P=s1)(?P<d1>\d{1,2})(?!\d)"
    r"|(?<!\d)(?P<y2>20\d{2})(?P<m2>0[1-9]|1[0-2])(?P<d2>[0-2]\d|3[01])(?!\d)"
    r"|(?<!\d)(?P<a>\d{1,2})(?P<s3>[-/.])(?P<b>\d{1,2})(?P=s3)(?P<y3>\d{4}|\d{2})(?!\d)"
    rf"|(?<!\d)(?P<d4>\d{{1,2}})(?:st|nd|rd|th|\.)?[\s_-]*(?:de\s+|of\s+)?(?P<n4>{_NAMES})\.?,?[\s_-]*(?:de\s+)?(?P<y4>\d{{4}})(?!\d)"
    rf"|(?<![^\W\d_])(?P<n5>{_NAMES})\.?[\s_-]+(?P<d5>\d{{1,2}})(?:st|nd|rd|th)?,?[\s_-]+(?P<y5>\d{{4}})(?!\d)",
    re.IGNORECASE,
)
_MONTH = re.compile(
    rf"(?<!\d)(?P<y1>20\d{{2}})[-_/.](?P<m1>0[1-9]|1[0-2])(?![\d])|(?<![\d/.-])(?P<m2>0[1-9]|1[0-2])[/.](?P<y2>20\d{{2}})(?!\d)"
    rf"|(?<![^\W\d_])(?P<n3>{_NAMES})\.?[\s_-]+(?P<y3>20\d{{2}})(?!\d)",
    re.IGNORECASE,
)
_QUARTER = re.compile(
    r"(?<!\d)(?P<y1>20\d{2})[-_ ]?(?P<q1>Q[1-4]|H[12])(?!\d)|(?<![^\W\d_])(?P<q2>Q[1-4]|H[12])[-_ /]?(?P<y2>20\d{2})(?!\d)", re.IGNORECASE
)
_SHORT_YEAR = re.compile(rf"(?<![^\W\d_]){_WORD}\.?(?:[-/ ]| ?['’])(?P<year>[1-4]\d)(?!\d)", re.IGNORECASE)
_START = r"\b(start|from|begin|von|beginn|ab|debut|début|depuis|du|desde|inicio|da|dal|inizio|van|begin|fran|från|fra|od)\b"
_END = r"\b(end|to|until|till|bis|ende|fin|au|jusqu|hasta|a|al|fine|tot|eind|til|slut|do|koniec)\b"
#: files whose names follow each other day by day from which each holds the day of its name
SERIES = 3
#: words for units of time in names, and their lengths in days
_LENGTHS = {
    r"d|days?|tagen?|jours?|dias?|giorni|dagen|dagar|dager|dage|dni|日間?|天|дней": 1,
    r"w|wks?|weeks?|wochen?|semaines?|semanas?|settimane|weken|veckor|uker|uger": 7,
    r"m|mo|months?|monaten?|mois|mes|meses|mesi|maanden|manader|maneder|miesiecy|か月|ヶ月|个月|месяц(?:ев|а)?": 30,
}
#: words of a column set for the period of comparison
_BEFORE = {"previous", "prev", "prior", "before", "earlier", "last", "vorher", "vorige", "voriger", "vorperiode", "precedente", "precedent", "anterior", "pp"}  # fmt: skip
_YEAR = {"year", "vorjahr", "jahr", "annee", "ano", "anno", "jaar", "ar", "yoy", "ly", "py"}


def period_in(text: str) -> Period | None:
    """The only period in a text: two days, one month, quarter or half year, or from one month to another; None for none or several."""
    text = _plain(text)
    days = _days(text)
    if days is None:
        return None
    if len(days) == 2:
        return (days[0], days[1]) if days[0] <= days[1] else None
    if days:
        return None
    spans = [_month(match) for match in _MONTH.finditer(text)] + [_quarter(match) for match in _QUARTER.finditer(text)]
    if not spans or len(spans) > 2:
        return None
    first, last = min(spans), max(spans)
    return first[0], last[1]


def span_of(cell: str) -> Period | None:
    """The first and last day of a cell that tells several: a quarter, half a year, or two days or months with no more than a word between them."""
    if len(cell) > LONGEST_SPAN or not _SEVERAL.search(cell):
        return None
    words = re.findall(r"[^\W\d_]+", _plain(cell).casefold())
    return period_in(cell) if all(word in MONTHS or word in _BETWEEN for word in words) else None


def are_periods(spans: Iterable[Period]) -> bool:
    """Whether cells tell periods: several days that are neither all weeks nor all months."""
    long = {(first, last) for first, last in spans if first != last}
    weeks = all((last - first).days == 6 for first, last in long)
    months = all(
        first.day == 1 and (first.year, first.month) == (last.year, last.month) and (last + timedelta(1)).day == 1 for first, last in long
    )
    return bool(long) and not weeks and not months


def full_years(cells: Sequence[str]) -> list[str]:
    """The cells of a header with the years of months such as Jul-25 in four digits, where several have one: a lone one may be a day."""
    known = {place: match for place, cell in enumerate(cells) if (match := _SHORT_YEAR.search(_plain(cell)))}
    months, years = ({match[name].casefold() for match in known.values()} for name in ("name", "year"))
    if len(known) < 2 or len(months) < len(years):
        return list(cells)
    return [_SHORT_YEAR.sub(r"\g<name> 20\g<year>", _plain(cell)) if place in known else cell for place, cell in enumerate(cells)]


def without_period(text: str) -> str:
    """The text without its days, months and quarters, and the marks between them."""
    bare = _QUARTER.sub(" ", _MONTH.sub(" ", _DAY.sub(" ", _plain(text))))
    return re.sub(r"\s+", " ", re.sub(r"\(\s*(?:[-–—/.,:]|to|bis|au|a|al|until|\s)*\s*\)|(?:^|\s)[-–—]+(?=\s|$)", " ", bare)).strip(
        " -–—:,|"
    )


def period_of_lines(lines: Iterable[str]) -> Period | None:
    """The period in a preamble or a table of settings: a line with one, else a line for its start and one for its end."""
    texts = [_plain(line).strip(" #\t;,\"'") for line in lines]
    result = {period for line in texts if (period := period_in(line)) is not None and len(_days(line) or ()) == 2}
    if len(result) == 1:
        return result.pop()
    if result:
        return None
    starts = {days[0] for line in texts if re.search(_START, line, re.IGNORECASE) and len(days := _days(line) or []) == 1}
    ends = {days[0] for line in texts if re.search(_END, line, re.IGNORECASE) and len(days := _days(line) or []) == 1} - starts
    if len(starts) == 1 and len(ends) == 1 and min(starts) <= min(ends):
        return min(starts), min(ends)
    months = {period for line in texts if not _days(line) and (period := period_in(line)) is not None}
    return months.pop() if len(months) == 1 else None


def period_of_name(name: str) -> Period | None:
    """The period in the name of a file, else in the names of its folders, the nearest first."""
    for part in reversed(re.split(r"[/\\]", name)):
        if (result := period_in(re.sub(r"\.\w{1,8}$", "", part).replace("_", " "))) or (result := period_in(part)):
            return result
    return None


def days_of_name(name: str) -> Period | None:
    """The day in the name of a file, as first and last, else the period in its name or those of its folders."""
    for part in reversed(re.split(r"[/\\]", name)):
        days = _days(_plain(re.sub(r"\.\w{1,8}$", "", part).replace("_", " ")))
        if days and len(days) == 1:
            return days[0], days[0]
    return period_of_name(name)


def days_of_names(names: Iterable[str]) -> tuple[date, ...] | None:
    """The day of each file of a series with one file a day, by their names; None for other files: a single day in a name may be
    that of the export.
    """
    days: list[date] = []
    for name in names:
        whole = _days(_plain(re.sub(r"\.\w{1,8}$", "", name).replace("_", " ")))
        if (day := days_of_name(name)) and day[0] == day[1]:
            days.append(day[0])
        elif whole and len(whole) == 1:
            days.append(whole[0])
        else:
            return None
    known = sorted(set(days))
    steps = sorted((later - earlier).days for earlier, later in pairwise(known))
    return tuple(days) if len(known) >= SERIES and steps[len(steps) // 2] == 1 else None


def days_back(name: str) -> int | None:
    """How many days a name such as "last 90 days" or "3 months" says; None for none."""
    for pattern, days in _LENGTHS.items():
        if match := re.search(rf"(?<!\d)(\d{{1,3}})[\s_-]*(?:{pattern})(?![^\W\d_])", _plain(name), re.IGNORECASE):
            return int(match[1]) * days
    return None


def in_words(periods: Iterable[Period]) -> str:
    """Periods for display: each by itself or, for three or more consecutive ones, their number, beginning and end."""
    known = sorted(periods)
    follow = all(later[0] == earlier[1] + timedelta(days=1) for earlier, later in pairwise(known))
    if len(known) > 2 and follow:
        return f"{len(known)} periods, {known[0][0]}..{known[-1][1]}"
    return ", ".join(f"{start}..{end}" for start, end in known)


def period_beside(words: list[str], period: Period) -> Period | None:
    """The period of a column set that is called "previous" or "a year before", next to one with known days."""
    known = set(words)
    if known & _YEAR:
        return _year_before(period[0]), _year_before(period[1])
    if known & _BEFORE:
        length = (period[1] - period[0]).days + 1
        return period[0] - timedelta(days=length), period[0] - timedelta(days=1)
    return None


def _plain(text: str) -> str:
    """The text without accents, in which months are recognised."""
    return "".join(c for c in unicodedata.normalize("NFKD", text) if not unicodedata.combining(c))


def _year_before(day: date) -> date:
    return day.replace(year=day.year - 1, day=28 if (day.month, day.day) == (2, 29) else day.day)


def _days(text: str) -> list[date] | None:
    """The days in a text in their order; None where day and month cannot be distinguished."""
    from nibbet.sources.header_words import words_of

    result: list[tuple[int, int, int] | tuple[int, int, int, str]] = []
    for m in _DAY.finditer(text):
        if m["y1"]:
            result.append((int(m["y1"]), int(m["m1"]), int(m["d1"])))
        elif m["y2"]:
            result.append((int(m["y2"]), int(m["m2"]), int(m["d2"])))
        elif m["a"]:
            year = int(m["y3"]) + (2000 if len(m["y3"]) == 2 else 0)
            result.append((year, int(m["a"]), int(m["b"]), "dmy" if m["s3"] == "." else "?"))
        else:
            name, day, of_year = (m["n4"], m["d4"], m["y4"]) if m["n4"] else (m["n5"], m["d5"], m["y5"])
            result.append((int(of_year), MONTHS[words_of(name)[0]], int(day)))
    loose = [one for one in result if len(one) == 4 and one[3] == "?"]
    orders = {"dmy", "mdy"}
    if any(one[1] > 12 for one in loose):
        orders = {"dmy"}
    elif any(one[2] > 12 for one in loose):
        orders = {"mdy"}
    readings = []
    for order in sorted(orders):
        try:
            readings.append([_as_day(one, order) for one in result])
        except ValueError:
            continue
    usable = [days for days in readings if days == sorted(days)] or readings
    return usable[0] if usable and all(days == usable[0] for days in usable) else [] if not result else None


def _as_day(one: tuple[int, int, int] | tuple[int, int, int, str], order: str) -> date:
    if len(one) == 3:
        return date(*one)
    year, a, b, form = one
    return date(year, b, a) if (form if form != "?" else order) == "dmy" else date(year, a, b)


def _month(m: re.Match[str]) -> Period:
    from nibbet.sources.header_words import words_of

    if m["n3"]:
        year, month = int(m["y3"]), MONTHS[words_of(m["n3"])[0]]
    else:
        year, month = (int(m["y1"]), int(m["m1"])) if m["y1"] else (int(m["y2"]), int(m["m2"]))
    return date(year, month, 1), date(year, month, calendar.monthrange(year, month)[1])


def _quarter(m: re.Match[str]) -> Period:
    year, part = int(m["y1"] or m["y2"]), (m["q1"] or m["q2"]).lower()
    length = 3 if part[0] == "q" else 6
    last = int(part[1]) * length
    return date(year, last - length + 1, 1), date(year, last, calendar.monthrange(year, last)[1])
