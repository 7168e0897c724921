"""Figures as words, a whole column at a time, so that every sentence says them the same way."""

from __future__ import annotations

import numpy as np
import pandas as pd


def count(values: pd.Series) -> pd.Series:
    """1,234 for each value; 0 for nulls."""
    whole = values.fillna(0).round().astype("int64")
    text = whole.abs().astype("str")
    for _ in range(4):
        text = text.str.replace(r"^(\d+)(\d{3})(?=$|,)", r"\1,\2", regex=True)
    return text.where(whole >= 0, "-" + text)


def share(values: pd.Series) -> pd.Series:
    """34% for 0.34."""
    return (values.fillna(0) * 100).round().astype("int64").astype("str") + "%"


def place(values: pd.Series) -> pd.Series:
    """4.2 for a position; "?" where unknown."""
    known = values.astype("float64")
    return pd.Series(np.where(known.isna(), "?", known.fillna(0).map("{:.1f}".format)), index=values.index, dtype="str")


def named(values: pd.Series) -> pd.Series:
    """Texts with nothing for nulls, also where all are null."""
    return values.astype("object").where(values.notna(), "").astype("str")


def plural(values: pd.Series, word: str) -> pd.Series:
    """1 click, 2 clicks."""
    return count(values) + f" {word}" + np.where(values.fillna(0).round() == 1, "", "s")


def joined(*parts: pd.Series | str) -> pd.Series:
    """The parts side by side, row by row."""
    first = next(part for part in parts if isinstance(part, pd.Series))
    out = pd.Series("", index=first.index, dtype="str")
    for part in parts:
        out = out + part
    return out
