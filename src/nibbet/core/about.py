"""Which topics fit the business, by the facts of `core.business`."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core.words import Lexicon, rarity

#: share of the distinctive words of a product that a topic must contain to fit, and of something unwanted or a rival to be that
SOLD, NAMED = 0.501, 0.99
#: share of the volume of a topic whose queries must contain a word for the topic to have it
HAS = 0.5
FIT = ["fit", "fit_because"]


def topic_fit(
    topics: pd.Series, queries: pd.DataFrame, *, sells: Sequence[str], rivals: Sequence[str], unwanted: Sequence[str], lexicon: Lexicon
) -> pd.DataFrame:
    """Which topics fit the business: FIT, one row per topic in their order; null where nothing is known about it.

    Args:
        topics: labels; queries: query, topic, volume.
    Returns:
        fit: fit (it has most of the distinctive words of a product, weighted by rarity among topics), unfit (all words of
        something unwanted), unclear (neither, or it names a rival); fit_because: which.
    """
    if not (sells or unwanted or rivals) or topics.empty:
        return pd.DataFrame({name: pd.Series(None, index=topics.index, dtype="str") for name in FIT})
    number = pd.Index(topics).get_indexer(pd.Index(queries["topic"]))
    rows, place, weight = queries[number >= 0], number[number >= 0], queries["volume"].to_numpy(float)[number >= 0] + 1.0
    words = lexicon.matrix(rows["query"])
    of = sparse.csr_matrix((weight, (place, np.arange(len(rows)))), shape=(len(topics), len(rows)))
    whole = np.maximum(np.asarray(of.sum(axis=1)).ravel(), 1e-9)
    has = sparse.csr_matrix(sparse.diags(1 / whole) @ of @ words)
    has.data[:] = has.data >= HAS
    has.eliminate_zeros()

    def best(items: Sequence[str], least: float) -> pd.Series:
        share, first = _shares(items, has, lexicon)
        return pd.Series([*items, ""], dtype="str").take(first).set_axis(topics.index).where(pd.Series(share >= least, index=topics.index))

    shut, named, sold = best(unwanted, NAMED), best(rivals, NAMED), best(sells, SOLD)
    fit = np.select([shut.notna(), named.notna(), sold.notna()], ["unfit", "unclear", "fit"], "unclear")
    because = np.select(
        [shut.notna(), named.notna(), sold.notna()],
        [
            'not wanted: "' + shut.fillna("") + '"',
            'names a rival: "' + named.fillna("") + '"',
            'it is of what is sold: "' + sold.fillna("") + '"',
        ],
        "nothing that is told of the business speaks of it",
    )
    return pd.DataFrame({"fit": fit, "fit_because": because}, index=topics.index).astype("str")


def _shares(items: Sequence[str], has: sparse.csr_matrix, lexicon: Lexicon) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """For each topic the largest share of the distinctive words of any item that it has, and that item; the last of none."""
    if not items:
        return np.zeros(has.shape[0]), np.zeros(has.shape[0], dtype=np.int64)
    wide, item_words = lexicon.same_width(has, lexicon.matrix(pd.Series(list(items))))
    weight = rarity(wide)
    weighted = item_words.multiply(weight[None, :]).tocsr()
    sums = np.maximum(np.asarray(weighted.sum(axis=1)).ravel(), 1e-9)
    share = (wide @ weighted.T).toarray() / sums[None, :]
    return share.max(axis=1), share.argmax(axis=1)
