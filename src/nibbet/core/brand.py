"""Whether a query asks for the site by name: whole words, in the spellings that searchers use."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from itertools import pairwise

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nibbet.core.words import Lexicon

#: letters of a name from which one slip of the finger still names it: shorter names are a slip away from too many other words
LEAST_SLIPPED = 6
#: a letter that stands wrong, one too many, and what may stand between the words of a name, in the syntax of RE2; they stand many times in an
#: expression, and classes of all letters of Unicode would make it long to build: beyond ASCII, all but signs counts as a letter
SIGNS = r"\x00-/:-@\[-`{-\x{a9}\x{ab}-\x{b4}\x{b6}-\x{b9}\x{bb}-\x{bf}\x{2000}-\x{206f}\x{3000}-\x{303f}"
WRONG, MORE, BETWEEN = f"[^{SIGNS}0-9]", "[^0-9]", f"[{SIGNS}]{{0,3}}"
#: scripts that set no blanks between words, or hang endings on them
WITHOUT_BLANKS = re.compile("[\u0e00-\u0eff\u1780-\u17ff\u3040-\u30ff\u3400-\u9fff\uac00-\ud7af]")


def brand_pattern(names: Sequence[str]) -> str | None:
    """The expression of RE2 that meets a query in small letters when it names the brand; None without names.

    A name is met as whole words, joined, spaced or hyphened, with or without its accents. Names of LEAST_SLIPPED letters and more are also
    met with one slip: a letter left out, doubled or strange, or two that changed places; the first letter stands, as it does in nine of ten
    slips, and so do digits. A name that begins with `=` is met only as it is written.
    """
    spellings = dict.fromkeys(_of_name(name) for name in _names(names))
    return "|".join(spellings) if spellings else None


def names_brand(texts: pd.Series, names: Sequence[str]) -> NDArray[np.bool_]:
    """Which texts name the brand."""
    lower = _lower(texts)
    result = _may_name(lower, names)
    if result.any():
        result[result] = pc.match_substring_regex(lower.filter(pa.array(result)), brand_pattern(names)).to_numpy(zero_copy_only=False)
    return result


def without_brand(texts: pd.Series, names: Sequence[str]) -> pd.Series:
    """The texts in small letters without the names in them."""
    lower = _lower(texts)
    result = pd.Series(lower.to_pylist(), index=texts.index, dtype="str")
    if (candidates := _may_name(lower, names)).any():
        named, pattern = lower.filter(pa.array(candidates)), f"(?:{brand_pattern(names)})"
        for _ in range(2):  # of two names that share the blank between them, one is met first
            named = pc.replace_substring_regex(named, pattern, "  ")
        result[candidates] = named.to_pylist()
    return result.str.split().str.join(" ")


def brand_columns(lexicon: Lexicon, names: Sequence[str]) -> NDArray[np.int64]:
    """The columns of a lexicon's words that stand in a name, or are a spelling of one."""
    known = lexicon.matrix(pd.Series([" ".join(_names(names)).replace("=", " ")])).indices
    columns = np.flatnonzero(names_brand(pd.Series(lexicon.words, dtype="str"), names))
    return np.union1d(known, columns).astype(np.int64)


def surely_in(names: Sequence[str]) -> list[str] | None:
    """Pieces of which every query that names the brand holds at least one: a test that costs less than the expression; None where no such
    piece has two letters.
    """
    pieces: set[str] = set()
    for name in _names(names):
        words, exact = _words(name)
        if not words or any(_variants(word) != word for word in words):
            return None
        if exact or sum(map(len, words)) < LEAST_SLIPPED:
            pieces.add(words[0])
        elif len(words) > 1:
            pieces.update(words)  # a slip falls into one of them
        else:  # ... and into two neighbours of three at most
            third = len(words[0]) // 3
            pieces.update((words[0][:third], words[0][third : -third or None], words[0][-third:]))
    return sorted(pieces) if all(len(piece) > 1 for piece in pieces) else None


def _may_name(lower: pa.ChunkedArray, names: Sequence[str]) -> NDArray[np.bool_]:
    """Which texts in small letters may name the brand, by the pieces that they must hold: the expression itself is met by few."""
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
    """The words of a name, and whether it is to be met only as it is written."""
    exact, name = name.startswith("="), name.lstrip("=").strip()
    return re.findall(r"[^\W_]+", name), exact


def _variants(letter: str) -> str:
    """A letter or the same without its accent."""
    bare = "".join(one for one in unicodedata.normalize("NFKD", letter) if not unicodedata.combining(one))
    whole = "".join(map(re.escape, letter))
    return whole if bare == letter else f"(?:{whole}|{''.join(map(re.escape, bare))})"


def _of_name(name: str) -> str:
    words, exact = _words(name)
    joined = "".join(words)
    if len(joined) < 2 or (exact and len(words) < 2):  # signs are all that tells such a name, as c++
        spellings = [re.escape(name.lstrip("=").strip())]
    else:
        spellings = [BETWEEN.join("".join(map(_variants, word)) for word in words)]
        if not exact and len(joined) >= LEAST_SLIPPED:
            spellings += _slips(words)
    whole = "|".join(dict.fromkeys(spellings))
    return f"(?:{whole})" if WITHOUT_BLANKS.search(name) else rf"(?:^|[^\pL\pN\pM])(?:{whole})(?:['’]s)?(?:[^\pL\pN\pM]|$)"


def _slips(words: list[str]) -> list[str]:
    """The name with one slip, between whose words blanks may stand."""
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
            wrong += [f"{left}{letters[place]}{MORE}{rest}"]  # one more, which may be a blank
        wrong += ["".join([*letters[:n], letters[n + 1], letters[n], *letters[n + 2 :]]) for n, _ in enumerate(pairwise(letters))]
        result += [f"{before}{one}{after}" for one in wrong]
    return result
