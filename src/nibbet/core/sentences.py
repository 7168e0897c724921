"""Figures as words, a whole column at a time, so that every sentence formats them alike."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping
from urllib.parse import quote, unquote

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc


def count(values: pd.Series) -> pd.Series:
    """1,234 for each value; 0 for nulls."""
    whole = values.fillna(0).round().to_numpy(dtype="int64", na_value=0)
    text, rest = None, np.abs(whole)
    while text is None or rest.any():
        part, rest = rest % 1000, rest // 1000
        here = pc.cast(pa.array(part), pa.string())
        if rest.any():
            here = pc.if_else(rest > 0, pc.utf8_lpad(here, 3, "0"), here)
        more = pa.array(rest * 1000 + part > 0) if text is not None else None
        text = here if text is None else pc.if_else(more, pc.binary_join_element_wise(here, text, ","), text)
    return pd.Series(pd.array(pc.if_else(whole < 0, pc.binary_join_element_wise("-", text, ""), text), dtype="str"), index=values.index)


def share(values: pd.Series) -> pd.Series:
    """34% for 0.34."""
    return (values.fillna(0) * 100).round().astype("int64").astype("str") + "%"


def percent(values: pd.Series) -> pd.Series:
    """3.4% for 0.034: one decimal, for small rates."""
    return joined(place(values.fillna(0) * 100), "%")


def place(values: pd.Series) -> pd.Series:
    """4.2 for a position; "?" where unknown."""
    known = values.to_numpy(dtype="float64", na_value=np.nan)
    tenths = np.round(np.nan_to_num(known) * 10).astype("int64")
    text = pc.binary_join_element_wise(pc.cast(pa.array(tenths // 10), pa.string()), pc.cast(pa.array(tenths % 10), pa.string()), ".")
    return pd.Series(pd.array(pc.if_else(pa.array(np.isnan(known)), "?", text), dtype="str"), index=values.index)


def at_place(values: pd.Series) -> pd.Series:
    """ " at position 4.2"; empty where unknown."""
    return joined(" at position ", place(values)).where(values.notna(), "")


def hundreds(values: pd.Series) -> pd.Series:
    """3.4 for 0.034: per hundred, with one decimal."""
    return place(values.fillna(0) * 100)


def named(values: pd.Series) -> pd.Series:
    """Texts, empty for nulls, also where all are null."""
    if isinstance(values.dtype, pd.StringDtype):
        return values.fillna("")
    return values.astype("object").where(values.notna(), "").astype("str")


def plural(values: pd.Series, word: str) -> pd.Series:
    """1 click, 2 clicks; 1 query, 2 queries."""
    one = pd.Series(values.fillna(0).round().to_numpy(dtype="float64") == 1, index=values.index)
    many = f"{word[:-1]}ies" if word.endswith("ry") else f"{word}s"
    return joined(count(values), " ", one.map({True: word, False: many}).astype("str"))


def chosen(sentences: Mapping[str, pd.Series | str], of: pd.Series) -> pd.Series:
    """For each row the sentence that `of` names; a sentence that is equal on all rows may be given as one text."""
    text = pd.DataFrame({name: one if isinstance(one, pd.Series) else pd.Series(one, index=of.index) for name, one in sentences.items()})
    places = pd.Index(list(sentences)).get_indexer(pd.Index(of))
    return pd.Series(text.to_numpy(dtype=object)[np.arange(len(text)), places], index=of.index, dtype="str")


def joined(*parts: pd.Series | str) -> pd.Series:
    """The concatenation of the parts, row by row."""
    first = next(part for part in parts if isinstance(part, pd.Series))
    given = [pa.array(part.astype("str")) if isinstance(part, pd.Series) else pa.scalar(part) for part in parts]
    flat = [part.combine_chunks() if isinstance(part, pa.ChunkedArray) else part for part in given]
    text = [part.cast(pa.large_string()) for part in flat]
    return pd.Series(pd.array(pc.binary_join_element_wise(*text, pa.scalar("", pa.large_string())), dtype="str"), index=first.index)


#: encoded characters beyond ASCII
ENCODED = re.compile(r"(?:%[89A-F][0-9A-F])+")


def readable(path: str) -> str:
    """A path with letters and digits of any script decoded; all other encoded characters stay encoded."""
    return ENCODED.sub(_written, path) if "%" in path else path


def _written(match: re.Match[str]) -> str:
    try:
        text = unquote(match[0], errors="strict")
    except UnicodeDecodeError:
        return match[0]
    return "".join(one if unicodedata.category(one)[0] in "LMN" else quote(one) for one in text)
