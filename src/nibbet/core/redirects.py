"""The redirect map: where addresses that go send their visitors, without chains or loops."""

from __future__ import annotations

import numpy as np
import pandas as pd
from scipy import sparse

from nibbet.core.brand import brand_columns
from nibbet.core.entries import places
from nibbet.core.querymap import page_words
from nibbet.core.sentences import named
from nibbet.core.words import Lexicon, rarity

#: share of a page's telling words that another page must carry to stand in for it
COVERS = 0.6
ROWS_AT_ONCE = 20_000


def covering_page(
    pages: pd.DataFrame,
    leaving: np.ndarray,
    staying: np.ndarray,
    *,
    brand: list[str],
    language: str = "english",
    words: tuple[Lexicon, sparse.csr_matrix] | None = None,
) -> pd.Series:
    """For each leaving page the staying page that covers its subject best; null where none carries COVERS of its telling words.

    Args:
        pages: title, h1, path, clicks_long (and headings, description where known), one row per page. The subject of a page is its main
            heading, else its title, else its path; of pages that cover it alike, the one that is
            about little else is taken, then the one with more clicks.
        leaving, staying: row numbers in `pages`.
        words: a lexicon and what `page_words` made of these pages with it, where that is there already.
    """
    lexicon, texts = words or (Lexicon(language), None)
    subject = lexicon.matrix(subject_of(pages))
    known_brand = brand_columns(lexicon, brand)
    texts = page_words(pages, lexicon) if texts is None else texts
    subject, texts = lexicon.same_width(subject, texts)
    weight = rarity(texts) ** 2
    weight[known_brand] = 0.0
    asked = subject[leaving].multiply(weight[None, :]).tocsr()
    whole = np.asarray(asked.sum(axis=1)).ravel()
    if not len(leaving) or not len(staying):
        return pd.Series(np.nan, index=leaving)
    there = texts[staying].tocsr()
    theirs = subject[staying].multiply(weight[None, :]).tocsr()
    about = np.maximum(np.asarray(theirs.sum(axis=1)).ravel(), 1e-9)
    visited = np.log1p(pages["clicks_long"].to_numpy(dtype=float)[staying])
    visited = visited / max(visited.max(), 1.0)
    telling = _telling_words(asked, np.bincount(there.indices, minlength=there.shape[1]))
    carries = there.T.tocsr()
    carries.data[:] = 1.0
    best = np.full(len(leaving), -1, dtype=np.int64)
    for at in range(0, len(leaving), ROWS_AT_ONCE):
        near = (telling[at : at + ROWS_AT_ONCE] @ carries).tocoo()
        one, other = near.row + at, near.col
        share = np.asarray(asked[one].multiply(there[other]).sum(axis=1)).ravel() / np.maximum(whole[one], 1e-9)
        beyond = 1.0 - np.asarray(subject[one].multiply(theirs[other]).sum(axis=1)).ravel() / about[other]
        score = share - 0.2 * beyond + 0.02 * visited[other]
        good = np.flatnonzero(share >= COVERS)
        order = good[np.lexsort([other[good], -score[good], one[good]])]
        first = order[np.unique(one[order], return_index=True)[1]]
        best[one[first]] = other[first]
    return pd.Series(np.where(best >= 0, staying[best], np.nan), index=leaving)


def _telling_words(asked: sparse.csr_matrix, known: np.ndarray) -> sparse.csr_matrix:
    """For each row its rarest words, as few as together outweigh what a page that covers it may lack: every such page carries one of them.

    Args:
        known: in how many texts each word stands.
    Source: prefix filtering (Chaudhuri, Ganti, Kaushik 2006, ICDE).
    """
    row, _ = places(asked)
    order = np.lexsort([asked.indices, known[asked.indices], row])
    weight, row = asked.data[order], row[order]
    before = np.cumsum(weight) - weight
    before = before - before[np.searchsorted(row, row)]
    whole = np.asarray(asked.sum(axis=1)).ravel()
    keep = (before <= (1 - COVERS) * whole[row] + 1e-9) & (weight > 0)
    return sparse.csr_matrix((np.ones(int(keep.sum())), (row[keep], asked.indices[order][keep])), shape=asked.shape)


def subject_of(pages: pd.DataFrame) -> pd.Series:
    """What each page says it is about: its main heading, else its title, else its path."""
    text = named(pages["h1"])
    text = text.where(text != "", named(pages["title"]))
    return text.where(text != "", pages["path"])


def straighten(redirects: pd.DataFrame) -> pd.DataFrame:
    """The map with every target carried through to where it ends, and loops cut.

    Args:
        redirects: from, to (null for 410), because; one row per leaving address.
    Returns:
        from, to, status (301 or 410), because, by `from`. A target that itself leaves is followed; what runs in a circle, or ends where
        nothing stands, becomes 410.
    """
    rows = redirects.drop_duplicates("from", ignore_index=True)
    onward = pd.Index(rows["from"].astype("str")).get_indexer(pd.Index(rows["to"].astype("str")))
    last = np.where(onward >= 0, onward, np.arange(len(rows)))
    for _ in range(max(1, int(np.ceil(np.log2(len(rows) + 1))) + 1)):  # doubling: 2, 4, 8 ... steps at once
        last = last[last]
    end = rows["to"].iloc[last].where(onward[last] < 0, None)
    out = pd.DataFrame({"from": rows["from"], "to": end.to_numpy(), "because": rows["because"]})
    out["status"] = np.where(out["to"].notna(), 301, 410)
    return out[["from", "to", "status", "because"]].sort_values("from", ignore_index=True)
