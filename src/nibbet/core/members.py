"""User-defined named groups of pages and of queries."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc

from nibbet.core.ledger import matches
from nibbet.core.words import BETWEEN, plain
from nibbet.errors import ConfigError


def pages_in_groups(paths: pd.Series, groups: Mapping[str, Sequence[str]]) -> pd.DataFrame:
    """group, page (the label of `paths`): one row per membership; a page may be in several groups.

    Args:
        groups: name -> patterns of paths in which * stands for any text.
    """
    parts = [pd.DataFrame({"group": name, "page": paths.index[matches(paths, list(patterns))]}) for name, patterns in groups.items()]
    return (
        pd.concat(parts, ignore_index=True) if parts else pd.DataFrame({"group": pd.Series(dtype="str"), "page": pd.Series(dtype="int64")})
    )


def queries_in_groups(queries: pd.Series, groups: Mapping[str, Sequence[str]], *, place: str = "[groups.queries] {name}") -> pd.DataFrame:
    """group, query: one row per membership.

    Args:
        queries: distinct texts; groups: name -> words or phrases, any of which makes a query a member (whole words, ignoring case
            and accents), or `re:` and an RE2 expression, which runs in linear time. place: the setting that holds them, for messages.
    Raises ConfigError, which names the group, for an invalid expression.
    """
    texts = queries.reset_index(drop=True)
    lower = plain(texts)
    spaced = pc.binary_join_element_wise(
        pa.scalar(" ", pa.large_string()),
        pc.replace_substring_regex(lower, BETWEEN, " "),
        pa.scalar(" ", pa.large_string()),
        pa.scalar("", pa.large_string()),
    )
    parts = []
    for name, given in groups.items():
        inside = np.zeros(len(texts), dtype=bool)
        for one in given:
            if one.startswith("re:"):
                try:
                    result = pc.match_substring_regex(lower, one[3:])
                except pa.ArrowInvalid as fault:
                    raise ConfigError(f"{place.format(name=name)}: {one!r} is no expression of RE2: {fault}. Mend it.") from None
            else:
                word = pc.replace_substring_regex(plain(pd.Series([one])), BETWEEN, " ")[0].as_py().strip()
                result = pc.match_substring(spaced, f" {word} ")
            inside |= result.to_numpy(zero_copy_only=False)
        parts.append(pd.DataFrame({"group": name, "query": texts[inside]}))
    return (
        pd.concat(parts, ignore_index=True) if parts else pd.DataFrame({"group": pd.Series(dtype="str"), "query": pd.Series(dtype="str")})
    )
