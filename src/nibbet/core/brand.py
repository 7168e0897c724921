"""Brand queries: whole words, in the spellings that searchers use."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from functools import reduce
from itertools import pairwise
from operator import or_
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nibbet.core.words import UNSPACED_LETTER, Lexicon

#: letters from which a name is also recognised with one typing error: shorter names are one error away from too many other words
LEAST_SLIPPED = 6
#: a wrong letter, an additional letter, and separators between the words of a name, in RE2 syntax. They occur many times in an expression,
#: and Unicode classes of letters would make it slow to build: beyond ASCII, anything but punctuation counts as a letter
SIGNS = r"\x00-/:-@\[-`{-\x{a9}\x{ab}-\x{b4}\x{b6}-\x{b9}\x{bb}-\x{bf}\x{2000}-\x{206f}\x{3000}-\x{303f}"
WRONG, MORE, BETWEEN = f"[^{SIGNS}0-9]", "[^0-9]", f"[{SIGNS}]{{0,3}}"


def brand_pattern(names: Sequence[str]) -> str | None:
    """The RE2 expression that matches lower-case queries with the brand; None without names.

    A name matches as whole words, joined, spaced or hyphenated, with or without accents. Names of at least LEAST_SLIPPED letters also match
    with one typing error: a letter omitted, doubled or wrong, or two transposed. The first letter must agree, as it does in nine of ten
    errors, and so must digits. A name that begins with `=` matches only as written.
    """
    spellings = dict.fromkeys(_of_name(name) for name in _names(names))
    return "|".join(spellings) if spellings else None


def names_brand(texts: pd.Series, names: Sequence[str]) -> NDArray[np.bool_]:
    """Which texts contain the brand."""
    lower = _lower(texts)
    result = _may_name(lower, names)
    if result.any():
        result[result] = pc.match_substring_regex(lower.filter(pa.array(result)), brand_pattern(names)).to_numpy(zero_copy_only=False)
    return result


def without_brand(texts: pd.Series, names: Sequence[str]) -> pd.Series:
    """The texts in lower case without the names."""
    lower = _lower(texts)
    result = pd.Series(lower.to_pylist(), index=texts.index, dtype="str")
    if (candidates := _may_name(lower, names)).any():
        named, pattern = lower.filter(pa.array(candidates)), f"(?:{brand_pattern(names)})"
        for _ in range(2):  # of two names separated by one blank, the first pass matches only one
            named = pc.replace_substring_regex(named, pattern, "  ")
        result[candidates] = named.to_pylist()
    return result.str.split().str.join(" ")


def brand_columns(lexicon: Lexicon, names: Sequence[str]) -> NDArray[np.int64]:
    """The columns of words of a lexicon that are part of a name, or a spelling of one."""
    known = lexicon.matrix(pd.Series([" ".join(_names(names)).replace("=", " ")])).indices
    columns = np.flatnonzero(names_brand(pd.Series(lexicon.words, dtype="str"), names))
    return np.union1d(known, columns).astype(np.int64)


def surely_in(names: Sequence[str]) -> list[str] | None:
    """Fragments of which every brand query contains at least one: a faster test than the expression; None if a
    fragment would have fewer than two letters.
    """
    pieces: set[str] = set()
    for name in _names(names):
        words, exact = _words(name)
        if not words or any(_variants(word) != word for word in words):
            return None
        if exact or sum(map(len, words)) < LEAST_SLIPPED:
            pieces.add(words[0])
        elif len(words) > 1:
            pieces.update(words)  # an error affects only one of them
        else:  # ... and at most two neighbours of three
            third = len(words[0]) // 3
            pieces.update((words[0][:third], words[0][third : -third or None], words[0][-third:]))
    return sorted(pieces) if all(len(piece) > 1 for piece in pieces) else None


def _may_name(lower: pa.ChunkedArray, names: Sequence[str]) -> NDArray[np.bool_]:
    """Which lower-case texts may contain the brand, by their fragments; the expression itself is applied only to these."""
    pieces = surely_in(names)
    if pieces is None:
        return np.ones(len(lower), dtype=bool)
    result = np.zeros(len(lower), dtype=bool)
    for piece in pieces:
        result |= pc.match_substring(lower, piece).to_numpy(zero_copy_only=False)
    return result


def _lower(texts: pd.Series) -> pa.ChunkedArray:
    return pc.fill_null(pc.utf8_lower(pa.chunked_array(pa.array(texts, pa.large_string(), from_pandas=True))), "")


def _names(names: Sequence[str]) -> list[str]:
    return [name.strip().lower() for name in names if name.strip().strip("=").strip()]


def _words(name: str) -> tuple[list[str], bool]:
    """The words of a name, and whether it must match exactly."""
    exact, name = name.startswith("="), name.lstrip("=").strip()
    return re.findall(r"[^\W_]+", name), exact


def _variants(letter: str) -> str:
    """A letter with or without its accent."""
    bare = "".join(one for one in unicodedata.normalize("NFKD", letter) if not unicodedata.combining(one))
    whole = "".join(map(re.escape, letter))
    return whole if bare == letter else f"(?:{whole}|{''.join(map(re.escape, bare))})"


def _of_name(name: str) -> str:
    words, exact = _words(name)
    joined = "".join(words)
    if len(joined) < 2 or (exact and len(words) < 2):  # such a name is distinguished only by its signs, such as c++
        spellings = [re.escape(name.lstrip("=").strip())]
    else:
        spellings = [BETWEEN.join("".join(map(_variants, word)) for word in words)]
        if not exact and len(joined) >= LEAST_SLIPPED:
            spellings += _slips(words)
    whole = "|".join(dict.fromkeys(spellings))
    return f"(?:{whole})" if UNSPACED_LETTER.search(name) else rf"(?:^|[^\pL\pN\pM])(?:{whole})(?:['’]s)?(?:[^\pL\pN\pM]|$)"


def _slips(words: list[str]) -> list[str]:
    """The name with one typing error, with optional blanks between its words."""
    result = []
    for at, word in enumerate(words):
        letters = list(map(_variants, word))
        before = "".join(BETWEEN.join(["".join(map(_variants, one)) for one in words[:at]] + [""])) if at else ""
        after = BETWEEN + BETWEEN.join("".join(map(_variants, one)) for one in words[at + 1 :]) if at + 1 < len(words) else ""
        wrong = []
        for place in range(len(letters)):
            left, rest = "".join(letters[:place]), "".join(letters[place + 1 :])
            if (at or place) and not word[place].isdigit():
                wrong += [f"{left}{WRONG}?{rest}"]  # another letter, or none
            wrong += [f"{left}{letters[place]}{MORE}{rest}"]  # one more character, which may be a blank
        wrong += ["".join([*letters[:n], letters[n + 1], letters[n], *letters[n + 2 :]]) for n, _ in enumerate(pairwise(letters))]
        result += [f"{before}{one}{after}" for one in wrong]
    return result


def is_brand(query: Any, brand: Sequence[str]) -> Any:
    """Whether a query in lower case contains the brand; null where it is null."""
    import ibis

    pattern, pieces = brand_pattern(brand), surely_in(brand)
    if pattern is None:
        return ibis.literal(False)
    near = reduce(or_, [query.contains(piece) for piece in pieces]) if pieces else query.notnull()
    return ibis.cases((near, query.re_search(pattern)), (query.notnull(), ibis.literal(False)), else_=ibis.null("boolean"))
