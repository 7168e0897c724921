"""Queries that are not searches: addresses and e-mail addresses typed as queries, long numbers, search operators."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nibbet.core.members import queries_in_groups
from nibbet.core.words import LETTERS, bytes_met, in_one, in_portions, plain_array

#: why a query is not a search, in this order
JUNK = ["address typed as a query", "a person's address or number", "search operators", "by [queries] junk"]
ADDRESS = r"^(https?:|www\.)|^[^ @]+\.(com|org|net|info|eu|io|example|[a-z]{2}|co\.[a-z]{2})(/[^ ]*)?$"
PERSONAL = r"[^ ]+@[^ ]+\.[a-z]{2,}|[0-9][0-9 ()/-]{6,}[0-9]"
#: operators that narrow a search: words before a colon, and a word with a minus sign; ISO dates and ranges have no blank before their minus
OPERATORS = r"(?:^|[ (-])(?:all)?(?:site|inurl|intitle|intext|inanchor|filetype|ext|related|cache|before|after):[^ ]|[^ -] -[a-z\"][^ ]*$"
#: answer from which a page contains the query, at least in its text (see `core.querymap.FIELDS`)
NAMED = 0.4


#: words, phrases or `re:` expressions of queries that are always junk, and of those that never are
JunkRules = tuple[Sequence[str], Sequence[str]]
NO_RULES: JunkRules = ((), ())


def suspects(texts: pd.Series, rules: JunkRules = NO_RULES) -> NDArray[np.int8]:
    """For each query the number of the reason in JUNK why it does not look like a search; -1 where it does.

    Args:
        texts: distinct queries; rules: of the settings.
    """

    def kind_codes(portion: pa.Array) -> NDArray[np.int64]:
        lower = plain_array(portion)
        flags = bytes_met(lower, LETTERS[1:], " ", ".:", "@", "0123456789", "-")
        has = {name: flags & 1 << number > 0 for number, name in enumerate(("letter", "blank", "mark", "at", "digit", "minus"))}
        conditions = [
            matching(lower, has["mark"], ADDRESS),
            matching(lower, has["at"] | has["digit"], PERSONAL),
            matching(lower, has["mark"] | (has["minus"] & has["blank"]), OPERATORS),
        ]
        return np.select(conditions, np.arange(len(conditions)), -1)

    result = np.concatenate([np.zeros(0, dtype=np.int64), *in_portions(kind_codes, in_one(texts))]).astype(np.int8)
    for some, value in zip(rules, (len(JUNK) - 1, -1), strict=True):
        if some:
            ruled = texts.isin(queries_in_groups(texts, {"": list(some)})["query"]).to_numpy()
            result[ruled] = value
    return result


def matching(lower: pa.Array, some: NDArray[np.bool_], pattern: str) -> NDArray[np.bool_]:
    """Which of the marked texts match the pattern."""
    result = some.copy()
    if some.any():
        result[some] = pc.match_substring_regex(lower.filter(pa.array(some)), pattern).to_numpy(zero_copy_only=False)
    return result


def junk_of(pairs: pd.DataFrame, query: NDArray[np.int64], suspect: NDArray[np.int8]) -> pd.Series:
    """Why the query of each pair is not a search, as categories of JUNK; null where it is one.

    An address or a number that a page contains (a part number, a telephone number) is a search.

    Args:
        pairs: answer, brand; query: the number of the query of each pair; suspect: by query, from `suspects`, including the rules of the
            settings.
    """
    meant = np.bincount(query[(pairs["answer"].to_numpy() >= NAMED) | pairs["brand"].to_numpy(bool)], minlength=len(suspect)) > 0
    known = np.where(meant & (suspect < 2), -1, suspect)  # operators and junk by the settings are junk whatever the page contains
    return pd.Series(pd.Categorical.from_codes(known[query], dtype=pd.CategoricalDtype(JUNK)), index=pairs.index)
