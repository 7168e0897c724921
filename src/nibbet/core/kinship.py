"""Similarity of queries by their words, their pages and the results they share, and their grouping."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core.entries import connected, places, strongest
from nibbet.core.owned import by_owner
from nibbet.core.words import Lexicon, typos_mended
from nibbet.once import threads

Ints = NDArray[np.int64]


Floats = NDArray[np.float64]


#: how far the page shown for a topic must answer it to be extended; below, the topic has an intent of its own
NEAR = 0.4


@dataclass(frozen=True)
class Kinship:
    """The weight of each kind of evidence, and the similarity (cosine) from which it counts."""

    words_from: float = 0.3
    pages: float = 2.5
    pages_from: float = 0.2
    wordless: float = 0.15
    unanswered: float = 0.2
    results: float = 2.5
    results_from: float = 0.35
    neighbours: int = 24
    on_pages: int = 12
    density: tuple[float, float, float] = (0.05, 0.05, 0.15)
    "How tightly a topic must hold together: by words alone, and more with pages and with results."


@dataclass(frozen=True)
class Owned:
    """Which pages own queries. owner: of each query its page, -1 for none; chosen: queries x pages, actual and expected clicks; on_page:
    pages x words (0 to 1), of the lexicon of the queries.
    """

    owner: Ints
    chosen: sparse.csr_matrix
    on_page: sparse.csr_matrix


#: pairs of queries whose words are compared at once
PRODUCTS = 2_000_000
#: a word in more queries than this proposes no pair by itself
MOST_QUERIES = 4000


def unit_rows(table: sparse.csr_matrix) -> sparse.csr_matrix:
    """The rows scaled to length 1; empty rows stay empty."""
    norm = np.sqrt(np.asarray(table.multiply(table).sum(axis=1)).ravel())
    return sparse.csr_matrix(sparse.diags(1 / np.maximum(norm, 1e-12)) @ table)


def alike(unit: sparse.csr_matrix, least: float, neighbours: int) -> sparse.csr_matrix:
    """Cosines of at least `least` between rows of length 1, each row with its nearest ones, in both directions.

    Columns of more than MOST_QUERIES rows propose no pair: they count in the length of the rows, not in the product.
    """
    from sparse_dot_topn import sp_matmul_topn

    count = np.bincount(unit.indices, minlength=unit.shape[1])
    rare = sparse.csr_matrix(unit[:, count <= MOST_QUERIES], dtype=np.float32)
    near = sp_matmul_topn(rare, rare.T.tocsr(), top_n=neighbours + 1, threshold=least, n_threads=threads()).tocsr()
    near.setdiag(0)
    near.eliminate_zeros()
    return sparse.csr_matrix(near.maximum(near.T))


def telling(words: sparse.csr_matrix, pages: sparse.csr_matrix | None) -> Floats:
    """Weight of each word: ln(1 + queries / queries with it) x cohesion^0.25, where cohesion is the share of pairs of queries with the word
    that land on the same page. Words that occur everywhere fade without a list, in any language.

    Args:
        words: queries x words; pages: queries x pages, impressions, or None.
    """
    count = np.asarray(words.sum(axis=0)).ravel()
    weight: Floats = np.log1p(words.shape[0] / np.maximum(count, 1.0))
    if pages is None or not pages.nnz:
        return weight
    drawn = pages.copy()
    drawn.data[:] = 1.0
    with_word = (words.T @ drawn).tocsr()
    whole = np.asarray(with_word.sum(axis=1)).ravel()
    together = np.asarray(with_word.multiply(with_word).sum(axis=1)).ravel()
    cohesion = np.where(whole > 1, (together - whole) / np.maximum(whole * (whole - 1), 1.0), 1.0)
    return weight * np.maximum(cohesion, 1e-4) ** 0.25


def kinship(
    words: sparse.csr_matrix,
    pages: sparse.csr_matrix | None,
    results: sparse.csr_matrix | None,
    how: Kinship,
    answered: NDArray[np.bool_] | None = None,
    shared: sparse.csr_matrix | None = None,
    tongue: Ints | None = None,
) -> sparse.csr_matrix:
    """Queries x queries: the evidence for one topic, each pair of queries once.

    Args:
        words: queries x words (0 or 1); pages: queries x pages, impressions; results: queries x addresses (0 or 1) of their snapshots;
        shared: similarity of those results.
        answered: whether a page of the site answers the query; tongue: a number for its language, -1 where unknown.
    Returns:
        Cosines of words, plus those of pages (little where no word is shared: a page may be shown for what it does not answer), plus those
        of
        results. Where the results of both queries are known and have nothing in common, nothing else counts: similar words, other intent.
        An answered and an unanswered query of the same page count only partly, because the words they share are seldom the point. Queries
        in
        two languages have none: one page cannot answer both.
    """
    unit = unit_rows(sparse.csr_matrix(words.multiply(telling(words, pages)[None, :]), dtype=np.float32))
    graph = alike(unit, how.words_from, how.neighbours)
    if pages is not None and pages.nnz:
        draws = np.asarray((pages > 0).sum(axis=0)).ravel()
        weighted = pages.sqrt().multiply(1 / np.sqrt(np.maximum(draws, 1.0))[None, :])
        near = alike(unit_rows(sparse.csr_matrix(weighted)), how.pages_from, how.on_pages)
        near.data *= np.where(_products(unit, near) > 0.1, np.float32(how.pages), np.float32(how.pages * how.wordless))
        graph = graph + near
        del near
    if answered is not None:
        row, _ = places(graph)
        graph.data[answered[row] != answered[graph.indices]] *= np.float32(how.unanswered)
    if results is not None and shared is not None:
        known = np.asarray(results.sum(axis=1)).ravel() > 0
        both = graph.multiply(shared > 0) + shared * np.float32(how.results)
        row, _ = places(graph)
        graph.data[known[row] & known[graph.indices]] = 0.0
        graph = sparse.csr_matrix(graph + both)
    if tongue is not None:
        row, _ = places(graph)
        one, other = tongue[row], tongue[graph.indices]
        graph.data[(one >= 0) & (other >= 0) & (one != other)] = 0.0
    row, column = places(graph)
    once = (column > row) & (graph.data >= 1e-9)
    ends = np.append(0, np.cumsum(np.bincount(row[once], minlength=graph.shape[0])))
    # sums of weights of many queries need double precision
    return sparse.csr_matrix((graph.data[once].astype(np.float64), column[once], ends), shape=graph.shape)


def _products(unit: sparse.csr_matrix, near: sparse.csr_matrix) -> NDArray[np.float32]:
    """The product of the two rows of `unit` for each entry of `near`, some millions at a time."""
    row, column = places(near)
    result = np.empty(len(row), dtype=np.float32)
    for start in range(0, len(row), PRODUCTS):
        part = slice(start, start + PRODUCTS)
        result[part] = np.asarray(unit[row[part]].multiply(unit[column[part]]).sum(axis=1)).ravel()
    return result


def group_queries(
    texts: pd.Series,
    *,
    language: str,
    pages: sparse.csr_matrix | None = None,
    results: sparse.csr_matrix | None = None,
    answered: NDArray[np.bool_] | None = None,
    tongue: Ints | None = None,
    how: Kinship | None = None,
    cut: tuple[Lexicon, sparse.csr_matrix] | None = None,
    owned: Owned | None = None,
) -> Ints:
    """The group of each query (numbers from 0), so that one page can answer each group.

    Args:
        texts: distinct queries; pages, results, answered, tongue: as in `kinship`, in the order of the texts; cut: a lexicon and texts x
            words, if already computed; owned: which pages own the queries, if any: see `core.owned`.
    By the Louvain method (Blondel et al. 2008, J. Stat. Mech. P10008) on the constant Potts model (Traag, Van Dooren & Nesterov 2011,
    Phys. Rev. E 84:016114), which has no resolution limit: a group must be coherent by more than `density`, however large the rest is.
    """
    from sknetwork.clustering import Louvain

    how = how or Kinship()
    lexicon = cut[0] if cut else Lexicon(language)
    words = typos_mended(cut[1] if cut else lexicon.matrix(texts), lexicon.words).astype(np.float64)
    shared = alike(unit_rows(results), how.results_from, how.neighbours) if results is not None and results.nnz else None
    graph = kinship(words, pages, results, how, answered, shared, tongue)
    if not graph.nnz:
        return _by_owners(np.arange(len(texts)), owned, words, results, shared)
    least = how.density[0]
    least += how.density[1] if pages is not None and pages.nnz else 0.0
    least += how.density[2] if shared is not None else 0.0
    louvain = Louvain(
        modularity="potts",
        resolution=least * graph.shape[0] ** 2 / (2 * graph.sum()),
        tol_optimization=1e-4,  # smaller values are no better against known intents, and slower
        tol_aggregation=1e-4,
        sort_clusters=False,
        return_probs=False,
        return_aggregate=False,
    )
    labels: Ints = np.asarray(louvain.fit_predict(graph), dtype=np.int64)
    if pages is not None and pages.nnz:
        labels = divided(labels, bodies_of_pages(labels, pages, shared), words)
    if shared is not None:
        labels = divided(labels, bodies_of_results(labels, shared), words)
    return _by_owners(labels, owned, words, results, shared)


def _by_owners(
    labels: Ints, owned: Owned | None, words: sparse.csr_matrix, results: sparse.csr_matrix | None, near: sparse.csr_matrix | None
) -> Ints:
    """The groups, with queries that pages own grouped by their owners."""
    if owned is None:
        return labels
    known = None if results is None else np.asarray(results.sum(axis=1)).ravel() > 0
    width = max(words.shape[1], owned.on_page.shape[1])
    wide = [sparse.csr_matrix((t.data, t.indices, t.indptr), shape=(t.shape[0], width)) for t in (words, owned.on_page)]
    return by_owner(labels, owned.owner, owned.chosen, wide[0], wide[1], near, known)


#: queries on a page from which it forms a body, and the share of the smaller of two pages in common from which both are one
BODY, SAME_BODY = 3, 0.5
#: the count assigned to a word that a body never has
RARE = 0.3


def bodies_of_pages(labels: Ints, pages: sparse.csr_matrix, near: sparse.csr_matrix | None) -> Ints:
    """The body of each query within its group: queries that land on one page, if it has at least BODY of the group; -1 where there is none.

    Pages with the same queries, or queries that share results, are one body. pages: queries x pages, impressions; near: similarity of
    results.
    """
    share = sparse.coo_matrix(sparse.diags(1 / np.maximum(np.asarray(pages.sum(axis=1)).ravel(), 1e-12)) @ pages)
    there, place = np.unique(labels[share.row] * pages.shape[1] + share.col, return_inverse=True)
    heads = np.bincount(place, share.data) >= BODY
    if not heads.any():
        return np.full(len(labels), -1)
    group, number = there[heads] // pages.shape[1], np.cumsum(heads) - 1
    on = heads[place]
    row, head, weight = share.row[on], number[place[on]], share.data[on]
    size = (len(labels), len(group))
    lands = sparse.csr_matrix((np.ones(len(row)), (row, head)), shape=size)
    count = np.asarray(lands.sum(axis=0)).ravel()
    both = lands.T @ lands
    if near is not None:
        both = both + lands.T @ (near > 0).astype(np.float64) @ lands
    both = both.tocoo()
    same = (group[both.row] == group[both.col]) & (both.data >= SAME_BODY * np.minimum(count[both.row], count[both.col]))
    joined = connected(both.row[same], both.col[same], len(group))
    return strongest(sparse.csr_matrix((weight, (row, joined[head])), shape=size))


def bodies_of_results(labels: Ints, near: sparse.csr_matrix) -> Ints:
    """The body of each query within its group: at least two queries that share results; -1 where there is none. near: similarity of
    results.
    """
    shared = near.tocoo()
    inside = labels[shared.row] == labels[shared.col]
    body = connected(shared.row[inside], shared.col[inside], len(labels))
    return np.where(np.bincount(body)[body] >= 2, body, -1)


def intents_of(results: sparse.csr_matrix, how: Kinship | None = None) -> Ints:
    """The intent of each query with known results, by similarity of results alone, transitively; -1 for the rest.

    Args:
        results: queries x addresses (0 or 1).
    """
    how = how or Kinship()
    near = alike(unit_rows(results), how.results_from, how.neighbours).tocoo()
    body = connected(near.row.astype(np.int64), near.col.astype(np.int64), results.shape[0])
    return np.where(np.diff(results.indptr) > 0, body, -1)


def divided(labels: Ints, body: Ints, words: sparse.csr_matrix) -> Ints:
    """The groups, with those divided that have at least two bodies.

    Queries without a body go to the body whose words are closer than those of the group as a whole (naive Bayes), and stay apart where no
    word decides.

    Args:
        body: of each query, within its group, -1 for none; words: queries x words (0 or 1).
    """
    groups, bodies = int(labels.max()) + 1, int(body.max(initial=-1)) + 1
    result, known = body.copy(), body >= 0
    of = np.full(bodies, -1)
    of[body[known]] = labels[known]
    divides = (np.bincount(of[of >= 0], minlength=groups) >= 2)[labels]
    known_rows, homeless = np.flatnonzero(divides & known), np.flatnonzero(divides & ~known)
    if not len(known_rows):
        return labels
    # words are numbered per group, so nothing is compared across groups
    rows = np.concatenate([known_rows, homeless])
    entries = words[rows].tocoo()
    column = np.unique(labels[rows[entries.row]] * words.shape[1] + entries.col, return_inverse=True)[1]
    matrix = sparse.csr_matrix((np.ones(len(column)), (entries.row, column)))
    member = sparse.csr_matrix((np.ones(len(known_rows)), (body[known_rows], np.arange(len(known_rows)))), shape=(bodies, len(known_rows)))
    here = (member @ matrix[: len(known_rows)]).tocoo()
    part = np.bincount(body[known_rows], minlength=bodies) / np.maximum(np.bincount(labels[known_rows], minlength=groups)[of], 1)
    usual = np.asarray(matrix[: len(known_rows)].sum(axis=0)).ravel()[here.col] * part[here.row]
    speaks = sparse.csr_matrix((np.log((here.data + RARE) / (RARE * (usual + 1))), (here.row, here.col)), shape=here.shape)
    result[homeless] = strongest(matrix[len(known_rows) :] @ speaks.T)
    return np.unique(np.where(divides & (result >= 0), groups + result, labels), return_inverse=True)[1].astype(np.int64)
