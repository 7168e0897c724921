"""Sections: the folders of addresses that tell the pages of a site apart."""

from __future__ import annotations

from typing import Any

import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc

#: a folder with this share of the pages of its host tells none apart: its own folders do, where two of them have so many pages
HOLDS_ALL, LEAST_PAGES = 0.8, 10
#: folders below each other that a section may consist of
DEEPEST = 4
#: a first folder that names a language or a region (the form of BCP 47), as in /en/ or /pt-br/
LANGUAGE = r"^[^/]*/(?i:[a-z]{2}(?:[-_](?:[a-z]{2}|[a-z]{4}|\d{3}))?)/$"


def language_code(language: pd.Series) -> pd.Series:
    """The ISO code of each language of a page, as `en` of en-GB; null where unknown."""
    code: pd.Series = language.astype("str").str.lower().str.extract(r"^([a-z]{2})(?![a-z])", expand=False)
    return code


def region_of(path: pd.Series) -> pd.Series:
    """The first folder of each path where it names a language or region, as /en-gb/; else empty."""
    first = path.astype("str").str.extract(r"^(/[^/]+/)", expand=False).fillna("")
    return first.where(first.str.match(LANGUAGE), "").str.lower()


def sections_of(path: pd.Series, host: pd.Series) -> pd.Series:
    """The section of each page: its first folder, or the next one where that names a language or holds nearly all pages.

    Args:
        path: from the slash on; host: in front of the sections of hosts that have pages of their own, else empty.
    """
    whole, of_host = host + path, host.groupby(host).transform("size")
    folder = _folders(whole, 1)
    section = folder.fillna(host + "/")
    for depth in range(1, DEEPEST):
        below = _folders(whole, depth + 1)
        inside = below.notna() & (section == folder) & folder.isin(_divided(folder, below, of_host, languages=depth == 1))
        if not inside.any():
            break
        section, folder = section.where(~inside, below), below
    return section


def _divided(folder: pd.Series, below: pd.Series, of_host: pd.Series, *, languages: bool) -> pd.Index:
    """The folders whose own folders tell pages apart better than they do; a year or a number is no subject."""
    of_folder = of_host.groupby(folder).agg(["size", "first"])
    parts = folder.groupby(below).agg(["size", "first"])
    parts = parts[(parts["size"] >= LEAST_PAGES) & ~parts.index.str.contains(r"/\d+/$")]
    several = parts["first"].value_counts().reindex(of_folder.index).fillna(0) >= 2
    most = parts.groupby("first")["size"].max().reindex(of_folder.index).fillna(0)
    least = HOLDS_ALL * of_folder["first"]
    chosen = (of_folder["size"] >= least) | (of_folder.index.str.contains(LANGUAGE) if languages else False)
    return of_folder.index[chosen & (several | (most >= least))]


def _folders(whole: pd.Series, depth: int) -> pd.Series:
    """The first folders of an address, null where it has fewer."""
    parts: Any = pc.extract_regex(pa.array(whole, pa.string()), rf"^(?P<folder>[^/]*(?:/[^/?]+){{{depth}}}/)")
    return pd.Series(pd.array(pc.struct_field(parts, "folder"), dtype="str"), index=whole.index)
