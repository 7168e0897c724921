"""What the values of a column show, whatever its header: addresses, days, counts, rates, positions, flags, short lists."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from nibbet.sources.currencies import MONEY
from nibbet.sources.months import EPOCH, QUARTER_HOUR, WEEK, first_days_of, month_of_year, without_weekday
from nibbet.sources.periods import span_of
from nibbet.sources.value_words import NO_VALUE, NO_WORDS, YES_WORDS

ADDRESS = re.compile(r"^(https?://\S|/|//)|^[\w-]+(\.[\w-]+)*\.[a-z]{2,}(/|$|\?)", re.IGNORECASE)
NUMBER = re.compile(rf"^[<>~≈]?\s*(?:{MONEY}\s*)?[-+−]?\d[\d\s.,'’\u00a0\u202f\u2009]*\s*(?:%|k|m|tsd\.?|mio\.?|{MONEY})?$", re.IGNORECASE)
DATE = re.compile(
    r"^\d{4}(?:[-/년年]|\. ?)\s?\d{1,2}(?:(?:[-/월月]|\. ?)\s?\d{1,2}[.일日]?)?([T ].*)?$|^\d{1,2}(?:[-/ ]|\. ?)\d{1,2}(?:[-/ ]|\. ?)\d{2,4}\.?([T ,].*)?$|^\d{8}$|^(0?[1-9]|1[0-2])[-/.](19|20)\d{2}$"
    r"|^\d{1,2}\.?[-/ ]\s*[^\W\d]{3,}\.?,?[-/ ]\s*\d{2,4}([ :].*)?$|^[^\W\d]{3,}\.?\s+\d{1,2},?\s+\d{4}(?:,?\s.*\d:\d{2}.*)?$"
    r"|^[a-z]{3}, \d{1,2} [a-z]{3} \d{4}( .*)?$"
    rf"|^[^\W\d]{{3,}}\.?[- ]\d{{4}}$|^(?:19|20)\d{{2}}[- ][^\W\d]{{3,}}\.?$|^\d{{4}}-\d{{2}}-\d{{2}}\s*(-|–|\.\.|/)\s*\d{{4}}-\d{{2}}-\d{{2}}$|{WEEK}",
    re.IGNORECASE,
)


def is_date(cell: str) -> bool:
    """Whether a cell reads as a day, week or month."""
    bare = cell.strip()
    return bool(DATE.match(without_weekday(bare))) or month_of_year(bare) is not None


#: durations such as 1:05, 00:01:05 or 1m 05s
DURATION = r"^(?:\d+:)?\d{1,3}:\d{2}(?:\.\d+)?$|^(?:\d+ ?h)? ?(?:\d+ ?m(?:in)?)? ?\d+(?:\.\d+)? ?s(?:ec)?$"
#: a number given by its bounds, such as 100 - 1K
BAND = r"(?i)^(\d[\d.,]*) ?([km]?)\s*(?:\s-\s|[–—])\s*(\d[\d.,]*) ?([km]?)$"
#: a path without its first slash
BARE_PATH = re.compile(r"^/$|^[\w%.~-]+(?:/[\w%.~-]*)*$")
SERIAL = re.compile(r"^[2-6]\d{4}(\.0)?$")
MEDIA_TYPE = re.compile(r"^(text|image|application|font|video|audio|model|multipart|message)/[\w.+-]+", re.IGNORECASE)
#: addresses of files that are no pages
ASSET = r"(?i)^[^?#]*\.(?:css|js|mjs|map|png|jpe?g|gif|svg|webp|avif|bmp|ico|woff2?|ttf|otf|eot|mp4|webm|mov|mp3|wav|json|xml|rss|atom|txt|zip|gz)(?:[?#].*)?$"
DEVICES = set(
    "mobile desktop tablet phone handy smartphone computer mobil movil móvil ordinateur ordenador tablette tableta pc laptop celular portable telefon "
    "téléphone telefoon tablett komputer dator nettbrett スマートフォン パソコン タブレット 手机 电脑 平板电脑 компьютер телефон планшет".split()
)
SURFACES = set(
    "web image images video videos news feed bild bilder imagen imagenes immagini vidéo vídeo noticias nieuws nachrichten".split()
)
#: names of web search in rows
WEB = set(
    "web|websuche|web search|websearch|web results|websökning|recherche web|búsqueda web|ricerca web|pesquisa na web|ウェブ|网页|веб".split(
        "|"
    )
)
STATUSES = {200, 204, 206, 301, 302, 303, 304, 307, 308, 400, 401, 403, 404, 405, 410, 429, 451, 500, 502, 503, 504}
#: a status with its meaning behind it, such as "404 Not Found" or "HTTP/1.1 200 OK"
STATUS_LINE = r"^(?:[Hh][Tt][Tt][Pp]/[\d.]+\s+)?(\d{3})(?:\s*[-–:(]?\s*[A-Za-z][A-Za-z' -]*\)?)?$"
#: largest rounding error of a ratio of two columns
RATIO_SLACK = 0.0051


@dataclass(frozen=True)
class Profile:
    """One column of a sample. Shares are of its filled cells; numbers are by row, NaN for other cells; scaled: some in thousands, as 1.2k; serial: days counted as spreadsheets do;
    bare_path: paths without their first slash.
    """

    rows: int
    filled: int
    address: float
    date: float
    number: float
    numbers: NDArray[np.float64]
    percent: bool
    distinct: float
    words: float
    length: float
    yes_no: bool
    index_words: bool
    media: float
    device: bool
    surface: bool
    status: bool
    combined: float
    duration: float
    band: float
    scaled: bool = False
    serial: bool = False
    bare_path: bool = False

    @property
    def whole(self) -> bool:
        """Counts: whole numbers from 0, in nine of ten filled cells."""
        known = self.numbers[~np.isnan(self.numbers)]
        return self.number >= 0.9 and not self.percent and bool(len(known)) and bool(np.all((known == np.floor(known)) & (known >= 0)))

    @property
    def redirects(self) -> bool:
        """Status codes that are all redirects."""
        return self.status and self.filled == self.rows and bool(np.all(self.numbers // 100 == 3))

    @property
    def is_text(self) -> bool:
        """Words: neither addresses nor numbers, days, flags or media types."""
        return self.filled > 0 and max(self.address, self.date, self.number, self.media) < 0.6 and not (self.yes_no or self.index_words)


def holds_addresses_and_texts(seen: Profile) -> bool:
    """Whether a column holds addresses among words, as a pivot table does with pages and their queries below each other."""
    return 0.05 < seen.address < 0.6 and seen.is_text


def profiles_of(columns: Sequence[Sequence[str]]) -> list[Profile]:
    """The profile of each column of a sample; a column that proves no decimal mark uses that of the others."""
    from nibbet.sources.conventions import sample_mark

    distinct = [dict.fromkeys(map(str.strip, cells)) for cells in columns]
    figures = [[cell for cell in cells if NUMBER.match(cell) and not is_date(cell)] for cells in distinct]
    marks = [sample_mark(cells) for cells in figures]
    usual = "," if marks.count(",") > marks.count(".") else "."
    return [profile(cells, mark or usual) for cells, mark in zip(columns, marks, strict=True)]


def profile(cells: Sequence[str], mark: str) -> Profile:
    """The profile of a column of sampled cells, its numbers read with a decimal mark."""
    bare = [cell.strip() for cell in cells]
    codes = {cell: re.match(STATUS_LINE, cell) for cell in set(bare)}
    if all(code and int(code[1]) in STATUSES for cell, code in codes.items() if cell):
        bare = [code[1] if (code := codes[cell]) else "" for cell in bare]
    times = Counter(bare)  # most columns repeat their cells, so that each is examined once
    filled = {cell: n for cell, n in times.items() if cell.casefold() not in NO_VALUE and not re.fullmatch(r"\([^()]{1,30}\)", cell)}
    rows = sum(filled.values())
    count = max(rows, 1)
    lower = {cell.casefold() for cell in filled}

    def share(form: re.Pattern[str]) -> float:
        return sum(n for cell, n in filled.items() if form.search(cell)) / count

    of_cell = dict(zip(times, _numbers(times, mark).tolist(), strict=True))
    numbers = np.array([of_cell[cell] for cell in bare], dtype=np.float64)
    known = numbers[~np.isnan(numbers)]
    days = sum(n for cell, n in filled.items() if is_date(cell) or span_of(cell) is not None) / count
    several = bool(filled) and len(lower) > 3
    serial = bool(filled) and all(SERIAL.match(cell) for cell in filled) and bool(np.ptp(known) < 4000)
    epoch = several and all((one := re.match(EPOCH, cell)) and int(one[1]) % QUARTER_HOUR == 0 for cell in filled)
    joined = bool(filled) and first_days_of(filled) is not None
    flags = bool(filled) and len(lower) <= 3 and lower <= (YES_WORDS | NO_WORDS)
    index = bool(filled) and len(lower) <= 40 and sum("index" in cell or "follow" in cell for cell in lower) > 0.6 * len(lower)
    addresses = share(ADDRESS)
    return Profile(
        rows=len(cells),
        filled=rows,
        address=addresses,
        date=max(days, float((serial and several) or epoch or joined) * 0.99),
        number=share(NUMBER),
        numbers=numbers,
        percent=any(cell.endswith("%") for cell in filled),
        scaled=any(re.search(r"(?i)\d\s*(?:k|m|tsd\.?|mio\.?)$", cell) for cell in filled),
        distinct=len(lower) / count,
        words=sum(n * len(cell.split()) for cell, n in filled.items()) / count,
        length=sum(n * len(cell) for cell, n in filled.items()) / count,
        yes_no=flags,
        index_words=index,
        media=share(MEDIA_TYPE),
        device=bool(filled) and lower <= DEVICES,
        surface=bool(filled) and lower <= SURFACES,
        status=len(known) > 0 and len(known) == rows and set(np.unique(known).tolist()) <= STATUSES and bool(filled),
        combined=sum(n for cell, n in filled.items() if " / " in cell) / count,
        duration=share(re.compile(DURATION)),
        band=share(re.compile(BAND)),
        serial=serial,
        bare_path=share(BARE_PATH) > 0.95 and sum(n for cell, n in filled.items() if "/" in cell) > 0.3 * rows,
    )


def _numbers(cells: Collection[str], mark: str) -> NDArray[np.float64]:
    """The numbers in the cells, percents as shares."""
    out = np.full(len(cells), np.nan)
    for row, cell in enumerate(cells):
        if not NUMBER.match(cell):
            continue
        digits = re.sub(r"[^\d.,+−-]", "", re.sub(rf"{MONEY}$", "", cell, flags=re.IGNORECASE)).replace("−", "-")
        plain = digits.replace(".", "").replace(",", ".") if mark == "," else digits.replace(",", "")
        try:
            out[row] = float(plain) / (100 if cell.endswith("%") else 1)
        except ValueError:
            continue
    return out


def is_ratio(rate: Profile, part: Profile, whole: Profile) -> bool:
    """Whether a column is, row by row, `part` over `whole`, as a share or in percent."""
    a, b, r = part.numbers, whole.numbers, rate.numbers
    usable = ~np.isnan(a) & ~np.isnan(b) & ~np.isnan(r) & (b > 0)
    if usable.sum() < 3 or not a[usable].any() or (a[usable] == b[usable]).all():
        return False
    true = a[usable] / b[usable]
    known = r[usable]
    return any(
        float(np.mean(np.abs(known / scale - true) <= RATIO_SLACK / min(scale, 10))) >= 0.9 and float(np.max(known / scale)) > 0
        for scale in (1.0, 100.0)
        if scale == 1.0 or known.max() > 1
    )


def never_above(part: Profile, whole: Profile) -> bool:
    """Whether two columns of counts can be a part and its whole: the part is never larger, and smaller in total."""
    usable = ~np.isnan(part.numbers) & ~np.isnan(whole.numbers)
    a, b = part.numbers[usable], whole.numbers[usable]
    return bool(len(a)) and bool(np.all(a <= b)) and float(a.sum()) < float(b.sum())
