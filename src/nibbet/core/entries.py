"""Entries of sparse tables: their places, the largest of a row or of all, and connected components."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

Ints = NDArray[np.int64]


def places(table: sparse.csr_matrix) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Row and column of each entry."""
    return np.repeat(np.arange(table.shape[0], dtype=np.int32), np.diff(table.indptr)), table.indices


def strongest(table: sparse.csr_matrix) -> Ints:
    """The column of the largest entry of each row, the first of equals; -1 where none is above 0."""
    table = table.tocsr()
    table.sort_indices()
    row, column = places(table)
    filled = np.flatnonzero(np.diff(table.indptr))
    top = np.zeros(table.shape[0])
    top[filled] = np.maximum.reduceat(table.data, table.indptr[filled]) if len(filled) else 0.0
    best = np.flatnonzero((table.data == top[row]) & (table.data > 0))[::-1]  # the first of a row is written last
    result: Ints = np.full(table.shape[0], -1)
    result[row[best]] = column[best]
    return result


def largest(values: NDArray[np.float64], count: int) -> Ints:
    """The indices of the `count` largest values, in order; the first of equals."""
    if count >= len(values):
        return np.arange(len(values))
    least = np.partition(values, len(values) - count)[len(values) - count] if count else np.inf
    above, equal = values > least, np.flatnonzero(values == least)
    above[equal[: count - int(above.sum())]] = True
    return np.flatnonzero(above)


def connected(one: Ints, other: Ints, count: int) -> Ints:
    """The connected component of each of `count` items under these links, numbered from 0."""
    from scipy.sparse.csgraph import connected_components

    links = sparse.coo_matrix((np.ones(len(one)), (one, other)), shape=(count, count))
    result: Ints = connected_components(links, directed=False)[1].astype(np.int64)
    return result
