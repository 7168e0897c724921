"""The format of numbers and dates of a column, decided from all its values, and the expressions that read them."""

from __future__ import annotations

import re
from datetime import date, datetime, timedelta
from typing import TYPE_CHECKING

from nibbet.errors import SourceError
from nibbet.sources.currencies import NAMED, SIGNED, SYMBOLS
from nibbet.sources.months import EPOCH, MONTHS, QUARTER_HOUR, WEEK, first_days_of, month_of_year, without_weekday
from nibbet.sources.periods import TO, Period, span_of
from nibbet.sources.value_words import NO_VALUE

if TYPE_CHECKING:
    from ibis.expr.types import Column as Expression
    from ibis.expr.types import StringValue

ISO_DAY = r"^\d{4}-\d{2}-\d{2}$"
BLANKS = f"[\\s\u00a0\u202f\u2009'’{SYMBOLS}]"


def number_expression(text: StringValue, *, decimal: str) -> Expression:
    """A text column as exact decimals with six places, ignoring thousands separators, blanks, currency and percent signs, k and m.

    Placeholders give null; so does anything that is no number, which the caller counts.
    """
    import ibis

    bare = text.lower().re_replace(rf"^\s*{SIGNED}", "").re_replace(BLANKS, "").re_replace(rf"^[>~≈+]|^{NAMED}|{NAMED}$", "")
    scale = ibis.cases(
        (bare.endswith("%"), 0.01), (bare.re_search("(k|tsd\\.?)$"), 1000.0), (bare.re_search("(m|mio\\.?)$"), 1_000_000.0), else_=1.0
    )
    digits = bare.re_replace("(%|k|m|tsd\\.?|mio\\.?)$", "")
    point = digits.replace(".", "").replace(",", ".") if decimal == "," else digits.replace(",", "")
    point = ibis.cases((point.startswith("<"), "0"), else_=point)  # a small number hidden by the source
    return (point.try_cast("decimal(38,10)") * scale.cast("decimal(18,2)")).try_cast("decimal(24,6)")


def plain_expression(text: StringValue, *, mark: str, type: str) -> Expression:
    """A text column of plain digits with at most the one decimal mark, as numbers of an engine type."""
    return (text.replace(",", ".") if mark == "," else text).try_cast(type)


def sample_style(values: list[str]) -> str:
    """The format of the sampled cells of a number column: whole, `.`, `,` or general."""
    filled = [value.strip() for value in values if value.strip()]
    for style, form in (("whole", r"-?\d+"), (".", r"-?\d+(\.\d+)?"), (",", r"-?\d+(,\d+)?")):
        if all(re.fullmatch(form, value) for value in filled):
            return style
    return "general"


def sample_days(cells: list[str], more: list[str], order: str | None = None) -> str | None:
    """The common format of all sampled dates as for `strptime`, "" for ISO; None without a common unambiguous format.

    Args:
        more: cells from the ends of long files, which may contain other texts; dates among them also show the order.
        order: "day first" or "month first" if set by the user.
    """
    form = r"(\d{4}|\d{1,2})([-/.])(\d{1,2})\2(\d{4}|\d{1,2})"
    if all(re.fullmatch(ISO_DAY, cell) for cell in cells):
        return ""
    if all(re.fullmatch(r"\d{8}", cell) for cell in cells):
        return "%Y%m%d"
    result = [re.fullmatch(form, cell) for cell in cells]
    shapes = {(len(one[1]) == 4, one[2], len(one[4]) == 4) if one else None for one in result}
    if len(shapes) != 1 or (shape := shapes.pop()) is None or shape[0] == shape[2]:
        return None
    year_first, mark, _ = shape
    if year_first:
        return f"%Y{mark}%m{mark}%d"
    numbers = [(int(one[1]), int(one[3])) for one in (*result, *(re.fullmatch(form, cell) for cell in more)) if one and len(one[1]) < 3]
    if mark == "." or (order is None and any(first > 12 for first, _ in numbers)):
        order = "day first"
    elif order is None and any(second > 12 for _, second in numbers):
        order = "month first"
    return None if order is None else mark.join(("%d", "%m", "%Y") if order == "day first" else ("%m", "%d", "%Y"))


def sample_mark(cells: list[str]) -> str | None:
    """The decimal mark that the sampled cells prove; null for none or both."""
    comma, point = (sum(bool(re.search(evidence_form(mark), cell.strip())) for cell in cells) for mark in ",.")
    return None if bool(comma) == bool(point) else "," if comma else "."


def evidence_form(mark: str) -> str:
    """The form of numbers that are only valid with `mark` as the decimal mark."""
    other = "." if mark == "," else ","
    return f"\\{mark}(\\d{{1,2}}|\\d{{4,}})[^\\d,]*$|^0\\{mark}\\d|\\{other}\\d{{3}}\\{mark}"


def misfits(text: StringValue, style: str) -> Expression:
    """Number of filled cells of a column that differ from the style of its sample."""
    import ibis

    if style == "general":
        return _count(text.notnull() & ibis.literal(False))
    if style == "whole":
        wrong = text.try_cast("int64").isnull() | text.contains(".")
    else:
        wrong = (
            plain_expression(text, mark=style, type="float64").isnull() | text.contains("." if style == "," else ",") | text.contains("e")
        )
    return _count(text.notnull() & (text != "") & wrong)


def decimal_evidence(text: StringValue, mark: str) -> Expression:
    """Number of cells that can only be read with `mark` as the decimal mark: fractions of other than three digits, or after thousands."""
    return _count(text.re_search(evidence_form(mark)))


def decimal_mark(comma: int, point: int, *, comma_cells: bool) -> str:
    """The decimal mark of a file by its evidence; without any, a comma in files separated by semicolons, else a point."""
    if comma == point:
        return "," if comma_cells and not comma else "."
    return "," if comma > point else "."


def _count(condition: Expression) -> Expression:
    return condition.cast("int64").sum().coalesce(0)


def day_of_text(values: list[str], *, where: str, header: str, order: str | None = None) -> dict[str, date]:
    """Each text -> its day, or the first of its days, with one convention for the whole column; texts that are no date are left out.

    Args:
        values: the distinct texts of the column.
        order: "day first" or "month first" if set by the user.
    Raises:
        SourceError: day and month cannot be distinguished in any value.
    """
    return {text: first for text, (first, _) in days_of_text(values, where=where, header=header, order=order).items()}


#: a first and a last day, which alone may each be read two ways
TWO_DAYS = re.compile(r"(?i)^(\d{1,2}[./-]\d{1,2}[./-]\d{2,4})\s*(?:-|–|—|to|until|till|bis|au|al|a|à|t/m)\s*(\d{1,2}[./-]\d{1,2}[./-]\d{2,4})$")


def days_of_text(values: list[str], *, where: str, header: str, order: str | None = None) -> dict[str, Period]:
    """As `day_of_text`, with the first and the last day of each text; weeks and months that one word or number tells have their first day
    as both.
    """
    texts = [value for value in sorted(values) if value.strip().casefold() not in NO_VALUE]
    ends = {text: two for text in texts if len(two := [part.strip() for part in text.split(TO)]) == 2 and all(two)}
    ends |= {text: list(both.groups()) for text in texts if (both := TWO_DAYS.match(text.strip()))}
    spans = {text: span for text in texts if text not in ends and (span := span_of(text)) is not None}
    single = {text for text in texts if text not in ends and text not in spans}
    days = _single_days(sorted(single.union(*ends.values())), where, header, order)
    between = {text: (days[first], days[last]) for text, (first, last) in ends.items() if first in days and last in days}
    return {
        **{text: (days[text], days[text]) for text in single if text in days},
        **spans,
        **{text: span for text, span in between.items() if span[0] <= span[1]},
    }


def _single_days(texts: list[str], where: str, header: str, order: str | None) -> dict[str, date]:
    if (known := first_days_of(texts, header)) is not None:
        return known
    parts = {text: _numbers(text) for text in texts}
    months = {text: one for text in texts if (one := month_of_year(text)) is not None}
    if len({month for _, month in months.values()}) >= len({year for year, _ in months.values()}):
        parts |= {text: (*one, 1, "ymd") for text, one in months.items()}  # fewer numbers than months are years, not days
    loose = {text: p for text, p in parts.items() if p and p[3] == "?"}
    if loose and order is None:
        order = _order(list(loose.values()), where, header)
    result = {}
    for text, part in parts.items():
        if part is None:
            continue
        first, second, third, form = part
        if form == "?":
            form = "dmy" if order == "day first" else "mdy"
        year, month, day = {"ymd": (first, second, third), "dmy": (third, second, first), "mdy": (third, first, second)}[form]
        try:
            result[text] = date(year, month, day)
        except ValueError:
            continue
    return result


def _order(parts: list[tuple[int, int, int, str]], where: str, header: str) -> str:
    if any(p[0] > 12 for p in parts):
        return "day first"
    if any(p[1] > 12 for p in parts):
        return "month first"
    if all(p[0] == p[1] for p in parts):
        return "day first"  # both readings are the same day
    if len({p[2] for p in parts}) > 1 and len(parts) > 3:  # firsts of months, over more than a year; otherwise a few days of each January
        if {p[0] for p in parts} == {1}:
            return "day first"
        if {p[1] for p in parts} == {1}:
            return "month first"
    shown = "{:02d}/{:02d}/{}".format(*next(p for p in parts if p[0] != p[1])[:3])
    raise SourceError(
        f'{where}: the dates under "{header}" (such as {shown}) can be read day first or month first. '
        'Add to its [[source]] in nibbet.toml: dates = "day first" (or "month first").'
    )


def _numbers(text: str) -> tuple[int, int, int, str] | None:
    """The three numbers of a date and their order: ymd, dmy, mdy, or ? where day and month cannot be distinguished."""
    bare = re.sub("[日일]", "", re.sub(r"\s?[년年월月]\s?", "-", without_weekday(text.strip())))
    if result := re.match(r"^(\d{4})(?:[-/]|\. ?)(\d{1,2})(?:[-/]|\. ?)(\d{1,2})\.?(?:[T ].*)?$", bare):
        return int(result[1]), int(result[2]), int(result[3]), "ymd"
    if result := re.match(r"^(\d{4})[-/.](\d{1,2})$", bare):
        return int(result[1]), int(result[2]), 1, "ymd"
    if (result := re.match(r"^(\d{1,2})[-/.](\d{4})$", bare)) and int(result[1]) <= 12:
        return int(result[2]), int(result[1]), 1, "ymd"
    if result := re.match(WEEK, bare, re.IGNORECASE):
        try:
            monday = date.fromisocalendar(int(result["y1"] or result["y2"]), int(result["w1"] or result["w2"]), 1)
        except ValueError:
            return None
        return monday.year, monday.month, monday.day, "ymd"
    if (result := re.match(EPOCH, bare)) and int(result[1]) % QUARTER_HOUR == 0:
        # midnight in the time zone of the source is up to half a day from that of UTC
        day = datetime(1970, 1, 1) + timedelta(seconds=int(result[1]) + 12 * 3600)
        return day.year, day.month, day.day, "ymd"
    if result := re.match(r"^(\d{4})-(\d{2})-(\d{2})\s*(?:-|–|\.\.|/)\s*\d{4}-\d{2}-\d{2}$", bare):
        return int(result[1]), int(result[2]), int(result[3]), "ymd"
    if result := re.match(r"^(\d{4})(\d{2})(\d{2})$", bare):
        return int(result[1]), int(result[2]), int(result[3]), "ymd"
    if result := re.match(r"^(\d{1,2})([-/. ]) ?(\d{1,2})\2 ?(\d{4}|\d{2})\.?(?:[T ,].*)?$", bare):
        year = int(result[4]) + (2000 if len(result[4]) == 2 else 0)
        return int(result[1]), int(result[3]), year, "dmy" if result[2] == "." else "?"
    if result := re.match(r"^([2-6]\d{4})(?:\.\d+)?$", bare):
        day = datetime(1899, 12, 30) + timedelta(days=int(result[1]))
        return day.year, day.month, day.day, "ymd"
    return _with_month_name(bare)


def _with_month_name(text: str) -> tuple[int, int, int, str] | None:
    from nibbet.sources.header_words import words_of

    words = [word for word in words_of(text) if word not in ("de", "of", "th", "st", "nd", "rd")]
    month = next((MONTHS[word] for word in words if word in MONTHS), None)
    numbers = [int(re.sub(r"\D", "", word)) for word in words if word[0].isdigit()]
    if month is None or not numbers:
        return None
    if re.match(r"^\d{1,2}\D+\d{2}(?:\D|$)", text.strip()):  # 8-Nov-26
        return numbers[-1] + 2000, month, numbers[0], "ymd"
    year = next((n for n in numbers if n > 31), None)
    day = next((n for n in numbers if n <= 31), 1)
    return None if year is None else (year + (2000 if year < 100 else 0), month, day, "ymd")
