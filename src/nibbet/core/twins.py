"""Pages with the same title and heading: one page at two addresses, or one page for two languages or regions."""

from __future__ import annotations

import pandas as pd

from nibbet.core.redirects import page_name
from nibbet.core.sections import region_of
from nibbet.core.sentences import named

#: pages with the same title and heading from which these are of a template, not of a page
TEMPLATE = 5


def same_heading(pages: pd.DataFrame, candidates: pd.DataFrame) -> pd.Series:
    """Whether both pages of each pair have the same title, main heading and last path segment, but for case, blanks and the number of a copy
    (/leek and /blog/leek-2), and few others have that title. A title alone may name the subject of pages on several questions.

    Args:
        pages: title, h1, path, one row per page, numbered as in `candidates` (page_a, page_b).
    """
    title, heading = (_folded(pages[name]) for name in ("title", "h1"))
    text, name = title + "\x1f" + heading, page_name(pages["path"]).str.replace(r"-\d{1,2}$", "", regex=True)
    text = text.where((title != "") & (heading != "") & (name != ""))
    text = (text + "\x1f" + name).where(text.groupby(text).transform("size") < TEMPLATE)
    one, other = (candidates[f"page_{side}"].map(text) for side in "ab")
    return (one.notna() & (one == other)).astype(bool)


def of_two_regions(pages: pd.DataFrame, candidates: pd.DataFrame) -> pd.Series:
    """Whether the pages of each pair are for two languages or regions by their first folders, as /en-us/ and /en-gb/, or the same path with
    and without such a folder.

    Args:
        pages: path, one row per page; candidates: page_a, page_b.
    """
    path = pages["path"].astype("str")
    region = region_of(path)
    rest = path.str.replace(r"^/[^/]+(?=/)", "", regex=True).where(region != "", path)
    (one, other), (rest_one, rest_other) = ([candidates[f"page_{side}"].map(of) for side in "ab"] for of in (region, rest))
    return ((one != other) & (((one != "") & (other != "")) | (rest_one == rest_other))).astype(bool)


def _folded(text: pd.Series) -> pd.Series:
    """Texts without differences of case and blanks; empty where missing."""
    return named(text).astype("str").str.casefold().str.replace(r"\s+", " ", regex=True).str.strip()
