"""Expressions that read one cell: a text, a query, a number, a flag, each with its placeholders for missing values."""

from __future__ import annotations

import re
from functools import reduce
from operator import or_
from typing import Any

import ibis

from nibbet.kinds import TIMES, Column
from nibbet.sources.conventions import number_expression, plain_expression
from nibbet.sources.profile import BAND, DURATION, STATUS_LINE
from nibbet.sources.value_words import INDEXABLE_WORDS, KEPT_OUT_WORDS, NO_VALUE, NO_WORDS, YES_WORDS

ENGINE_TYPE = {
    "date": "date",
    "address": "string",
    "text": "string",
    "count": "int64",
    "number": "decimal(24,6)",
    "place": "float64",
    "flag": "boolean",
}
#: limits of a position: some sources count from 0, none beyond some thousands
LEAST_PLACE, MOST_PLACE = 1e-9, 100_000.0
NO_TEXT = sorted(NO_VALUE)
LONGEST_PLACEHOLDER = max(map(len, NO_TEXT))
PLACEHOLDER_LETTERS = sorted({letter for word in NO_TEXT for letter in (word[:1].lower(), word[:1].upper()) if letter})


@ibis.udf.scalar.builtin  # type: ignore[untyped-decorator]
def trim(text: str) -> str:  # type: ignore[empty-body]
    """The text without surrounding blanks."""


def text_cell(cell: Any) -> Any:
    """The text without surrounding blanks, null for a placeholder; fully processed only if it may need it."""
    return ibis.cases((_is_odd(cell), ibis.cases((no_value(cell), ibis.null("string")), else_=trim(cell))), else_=cell)


def bare_cell(cell: str) -> str | None:
    """As `text_cell`, for one value."""
    bare = cell.strip(" ")
    return None if bare.strip().casefold() in NO_VALUE or re.fullmatch(r"\([^()]{1,30}\)\s*", bare) else bare


def query_cell(cell: Any) -> Any:
    """A query in lower case with single blanks, null for a placeholder."""
    odd = reduce(or_, [cell.contains(blank) for blank in ("  ", "\t", "\n", "\r", "\u00a0")]) | _is_odd(cell)
    bare = trim(cell.re_replace(r"[\s\x{a0}]+", " ").lower())
    return ibis.cases((odd, ibis.cases((no_value(cell), ibis.null("string")), else_=bare)), else_=cell.lower())


def _is_odd(cell: Any) -> Any:
    """Whether a cell may be a placeholder or have surrounding blanks, by its ends: a fast test."""
    begins = reduce(or_, [cell.startswith(letter) for letter in PLACEHOLDER_LETTERS], cell == "")
    return cell.startswith(" ") | cell.endswith(" ") | cell.startswith("(") | ((cell.length() <= LONGEST_PLACEHOLDER) & begins)


def one_of(text: Any, words: list[str]) -> Any:
    """Whether a text is one of some short words; the length is tested first because it is fast."""
    return (text.length() <= max(map(len, words)) + 2) & text.re_search(rf"(?i)^\s*({'|'.join(map(re.escape, words))})\s*$")


def no_value(text: Any) -> Any:
    """Placeholders for missing values: a word like "n/a" or "-", or any text in parentheses."""
    cell = text.cast("string")
    return one_of(cell, NO_TEXT) | (cell.startswith("(") & cell.re_search(r"^\([^()]{1,30}\)\s*$"))


def _seconds(text: Any) -> Any:
    """The seconds of a duration such as 1:05, 00:01:05 or 1m 05s."""
    total: Any = ibis.literal(0.0)
    for unit, seconds in (("h", 3600), ("m", 60), ("s", 1)):
        total = total + text.re_extract(rf"(\d+(?:\.\d+)?) ?{unit}", 1).nullif("").cast("float64").fill_null(0.0) * seconds
    parts = [text.re_extract(r"^(?:(\d+):)?(\d+):(\d{2}(?:\.\d+)?)$", n).nullif("").cast("float64").fill_null(0.0) for n in (1, 2, 3)]
    return ibis.cases((text.contains(":"), parts[0] * 3600 + parts[1] * 60 + parts[2]), else_=total)


def _bound(text: Any, group: int) -> Any:
    """A bound of a band, such as 1K; bands are read as their geometric mean, since they grow tenfold."""
    bound, unit = text.re_extract(BAND, group), text.re_extract(BAND, group + 1).lower()
    digits = ibis.cases((unit != "", bound.replace(",", ".")), else_=bound.re_replace(r"[.,]", ""))  # a mark before K is a decimal mark
    return digits.try_cast("float64") * ibis.cases((unit == "k", 1e3), (unit == "m", 1e6), else_=1.0)


def number_cell(column: Column, cell: Any, style: str) -> Any:
    """A number of the column's type, null for anything else; `style` describes its texts (see conventions)."""
    if column.type == "count" and cell.type().is_floating():
        return ibis.cases((cell == cell.floor(), cell.cast("int64")), else_=ibis.null("int64"))
    if not cell.type().is_string():
        return _placed(cell.cast("float64")) if column.type == "place" else cell.cast(ENGINE_TYPE[column.type])
    text = trim(cell)
    if column.name in TIMES:
        seconds = _seconds(text)
        return ibis.cases((text.re_search(DURATION), seconds), else_=number_expression(text, decimal=style[-1:] or ".")).cast(
            ENGINE_TYPE["number"]
        )
    if column.name == "volume" and style.startswith("general"):
        middle = (_bound(text, 1) * _bound(text, 3)).sqrt().round()
        return ibis.cases((text.re_search(BAND), middle), else_=number_expression(text, decimal=style[-1]).cast("float64").round()).cast(
            "int64"
        )
    if column.name == "status" and style != "whole":
        return ibis.cases((text.re_search(STATUS_LINE), text.re_extract(STATUS_LINE, 1)), else_=text).try_cast("float64").try_cast("int64")
    if style == "whole":
        return text.try_cast(ENGINE_TYPE[column.type])
    general = (
        number_expression(text, decimal=style[-1])
        if style.startswith("general")
        else plain_expression(text, mark=style, type=ENGINE_TYPE[column.type])
    )
    if column.type == "place":
        return _placed(general.cast("float64"))
    if column.type == "number":
        return general.cast(ENGINE_TYPE[column.type])
    return ibis.cases((general == general.round(0), general.cast("int64")), else_=ibis.null("int64"))


def _placed(place: Any) -> Any:
    """A position, null where the number cannot be one: not above 0, or infinite."""
    return ibis.cases((place.between(LEAST_PLACE, MOST_PLACE), place), else_=ibis.null("float64"))


def flag_cell(name: str, cell: Any, header: str, *, reverse: bool = False) -> Any:
    """Yes or no, from the words that exports use for them; null for anything else.

    A flag has a direction. For noindex, words such as "noindex" or "indexable" are clear by themselves, and a plain yes or no is read with
    its header: under "Indexable" a no blocks the page from the index, under "Noindex" a yes does. Any value but a no protects a page.
    """
    if cell.type().is_boolean():
        turned = keeps_out(header) is False if name == "noindex" else name == "follow" and _denies(header)
        return ~cell if turned != reverse else cell
    text = cell.cast("string").strip().lower()
    yes, no = text.isin(sorted(YES_WORDS)), text.isin(sorted(NO_WORDS))
    if reverse:
        yes, no = no, yes
    if name == "follow":
        return _followed(text, yes, no, header)
    if name != "noindex":
        return ibis.cases((yes, True), (no | (text == "") | text.isnull(), False), else_=ibis.literal(name == "protected"))
    direction = keeps_out(header)
    bare = [] if direction is None else [(yes, direction), (no, not direction)]
    kept_out = text.re_search("no-?index|none|non-index|not index|nicht index|non index|no index|blocked|excluded")
    return ibis.cases(
        (kept_out, True), (text.contains("index") | text.contains("follow") | (text == "all"), False), *bare, else_=ibis.null("boolean")
    )


def _followed(text: Any, yes: Any, no: Any, header: str) -> Any:
    """Whether a link counts: under "Nofollow" a yes denies it, and a `rel` attribute does so by its words."""
    denied = _denies(header)
    by_words = [(text.re_search("no-?follow|no follow|sponsored|ugc"), False), (text.contains("follow"), True)]
    return ibis.cases(*by_words, (yes, not denied), (no, denied), else_=ibis.literal(denied or "rel" in header.lower().split()))


def _denies(header: str) -> bool:
    """Whether a yes under a header means that a link does not count."""
    return re.search(r"no[ _-]?follow", header.lower()) is not None


def keeps_out(header: str) -> bool | None:
    """Whether a yes under a header blocks a page from the index; None where the header does not say."""
    from nibbet.sources.header_words import words_of

    words = " ".join(words_of(header))
    out, in_ = ([" ".join(words_of(word)) for word in known] for known in (KEPT_OUT_WORDS, INDEXABLE_WORDS))
    if any(word in words for word in out):
        return True
    return False if any(word in words for word in in_) else None
