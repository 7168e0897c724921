"""The parent of each page, from breadcrumbs in words: Start > Birds > Owl."""

from __future__ import annotations

import pandas as pd

#: separators of the steps of a trail; a slash only between blanks, since names contain slashes too
BETWEEN_STEPS = r"\s*(?:[>›»→|▸⟩]|&gt;|&raquo;|&rsaquo;|::|\\)+\s*|\s+/\s+"
#: an internal separator that no name contains
JOINT = "\x1f"


def pages_above(trails: pd.Series, names: list[pd.Series]) -> pd.Series:
    """The number of the parent of each page, null where its trail has none.

    A trail ends with its own page, or with the parent. In the first case, the trail without its last step is that of the parent; in the
    second, it consists of the trail and name of the parent. The reading that finds more pages is used. A trail shared by several pages
    identifies none of them.

    Args:
        trails: text of the breadcrumbs, by page number; null where there is none.
        names: names of pages (heading, title), in this order of preference, by page number.
    """
    steps = trails.str.strip().str.strip(">›»→|▸⟩/ ").str.lower().str.replace(BETWEEN_STEPS, JOINT, regex=True)
    steps = steps.where(steps.ne(""))
    several = steps.str.contains(JOINT, regex=False).eq(True)
    above = steps.where(several).str.replace(f"{JOINT}[^{JOINT}]*$", "", regex=True)
    candidates = [_by_key(above, steps)]
    for name in names:
        called = name.str.strip().str.lower()
        named = called.where(steps.isna(), steps.str.cat(called, sep=JOINT))  # the first page has a name and no trail
        candidates.append(_by_key(steps, named))
    return max(candidates, key=lambda numbers: int(numbers.notna().sum()))


def _by_key(wanted: pd.Series, keys: pd.Series) -> pd.Series:
    """The number of the only other page that has the wanted key; null where there is none or there are several."""
    alone = keys.dropna()
    alone = alone[~alone.duplicated(keep=False)]
    result = wanted.map(pd.Series(alone.index, index=alone.to_numpy(), dtype="Int64")).astype("Int64")
    return result.where(result.ne(pd.Series(result.index, index=result.index, dtype="Int64")).fillna(False))
