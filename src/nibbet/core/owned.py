"""Topics by ownership: the queries of one page are one topic unless results divide it, and queries without an owner join the topic that
answers them.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core.entries import connected, places, strongest
from nibbet.core.words import carried_by

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: share of the clicks of the smaller of two pages, query by query, that the other gets too, from which both have one topic
ONE_TOPIC = 0.6
#: share of the queries with known results of the smaller of two topics whose results lead to the other, from which both are one
ONE_RESULT = 0.5
#: share of the distinctive words of a query that the page and queries of a topic must contain for it to belong there without further
#: evidence
ANSWERED = 0.95
#: share of the topics, and their number, above which a word in so many of them is no reason to move a query
EVERYWHERE, LEAST_TOPICS = 0.8, 3
#: most pages with clicks for a query that is used to compare them
MOST_PAGES = 50


def by_owner(
    labels: Ints,
    owner: Ints,
    chosen: sparse.csr_matrix,
    words: sparse.csr_matrix,
    on_page: sparse.csr_matrix,
    near: sparse.csr_matrix | None,
    known: NDArray[np.bool_] | None,
) -> Ints:
    """The topic of each query, from the page that owns it.

    Args:
        labels: the group of each query by similarity alone, used for queries without an owner.
        owner: the page that owns each query, -1 for none.
        chosen: queries x pages, actual and expected clicks.
        words: queries x words (0 or 1); on_page: pages x words (0 to 1), of the same columns.
        near: similarity of the results of queries; known: which queries have results; None without any.
    Returns:
        Numbers from 0. Pages with clicks for the same queries, or whose queries share results, have one topic. A query whose results are
        those of another topic and not of its own moves there. A query without an owner joins the topic whose results it shares, else one
        whose page and queries contain each of its distinctive words, else it stays with similar ones.
    """
    has_owner = owner >= 0
    if not has_owner.any():
        return labels
    pages = int(owner.max()) + 1
    body = _one_body(owner, chosen[:, :pages])
    topic = np.where(has_owner, body[np.maximum(owner, 0)], -1)
    sure = np.zeros(len(topic), dtype=bool) if known is None else known
    if near is not None and known is not None:
        topic = _by_results(topic, owner, near, known)
    _, topic[has_owner] = np.unique(topic[has_owner], return_inverse=True)
    lost = np.flatnonzero(~has_owner)
    home = np.full(len(lost), -1)
    if near is not None:
        home = strongest(sparse.csr_matrix(near[lost] @ _members(topic, has_owner)))
    by_words = np.flatnonzero((home < 0) & ~sure[lost])
    if len(by_words):
        home[by_words] = home_by_words(
            words[lost[by_words]], topic[has_owner], words[has_owner], _words_of_owners(topic, has_owner, owner, on_page)
        )[0]
    topic[lost] = np.where(home >= 0, home, topic[has_owner].max() + 1 + labels[lost])
    left = lost[(home < 0) & ~sure[lost]]
    core = np.zeros(len(topic), dtype=bool)  # queries without results join those that results connect, by the same measure
    core[lost[(home < 0) & sure[lost]]] = True
    if core.any() and len(left):
        result = home_by_words(words[left], topic[core], words[core])[0]
        topic[left] = np.where(result >= 0, result, topic[left])
    topic = np.unique(topic, return_inverse=True)[1].astype(np.int64)
    return _to_their_words(topic, np.flatnonzero(has_owner & ~sure), words, _words_of_owners(topic, has_owner, owner, on_page))


def _to_their_words(topic: Ints, query_words: Ints, words: sparse.csr_matrix, on_pages: sparse.csr_matrix) -> Ints:
    """The topics, after moving queries whose distinctive words are in another topic and not in the rest of their own: a page is
    shown for the questions of its sisters too, and owns them where the sister does not appear.

    on_pages: topics x words (0 to 1) of the pages of each.
    """
    member = _members(topic, np.ones(len(topic), dtype=bool))
    count, size = sparse.csr_matrix(member.T @ words), np.asarray(member.sum(axis=0)).ravel()
    holds = _held_words(count, size, on_pages)
    weight, mine, home = _telling(holds), sparse.csr_matrix(words[query_words]), topic[query_words]
    rest = _held_words(sparse.csr_matrix(count[home] - mine), size[home] - 1, on_pages[home])
    telling = sparse.csr_matrix(mine.multiply(weight[None, :]))
    there, strength = _shares(telling, rest > 0), _shares(telling, rest)
    query, other, _, strongly = carried_by(mine, holds, weight, ANSWERED)
    better = (there[query] < ANSWERED) & (other != home[query]) & (strongly > strength[query])
    # a word of nearly all topics moves no query whose other words its own page says
    common = np.bincount(holds.indices, minlength=holds.shape[1]) > max(EVERYWHERE * holds.shape[0], LEAST_TOPICS)
    rare = sparse.csr_matrix(telling.multiply(~common[None, :]))
    stays = (_shares(rare, on_pages[home]) >= ANSWERED)[query] & (_shares(rare[query], holds[other]) <= _shares(rare, rest)[query])
    better &= ~stays
    best = strongest(sparse.csr_matrix((strongly[better], (query[better], other[better])), shape=(len(query_words), holds.shape[0])))
    topic = topic.copy()
    topic[query_words] = np.where(best >= 0, best, home)
    return np.unique(topic, return_inverse=True)[1].astype(np.int64)


def _shares(telling: sparse.csr_matrix, holds: sparse.csr_matrix) -> Floats:
    """The share of the weight in each row of `telling` that the same row of `holds` contains; 0 without weight."""
    whole = np.maximum(np.asarray(telling.sum(axis=1)).ravel(), 1e-9)
    share: Floats = np.asarray(telling.multiply(holds).sum(axis=1)).ravel() / whole
    return share


def _members(topic: Ints, chosen: NDArray[np.bool_]) -> sparse.csr_matrix:
    """Queries x topics, 1 where an owned query belongs."""
    at = np.flatnonzero(chosen)
    return sparse.csr_matrix((np.ones(len(at)), (at, topic[at])), shape=(len(topic), int(topic[at].max()) + 1))


def _one_body(owner: Ints, chosen: sparse.csr_matrix) -> Ints:
    """The body of each page: pages with clicks for the same queries in the same proportion are one."""
    pages = chosen.shape[1]
    holds = np.bincount(owner[owner >= 0], minlength=pages) > 0
    whole = np.maximum(np.asarray(chosen.sum(axis=0)).ravel(), 1e-9)
    share = sparse.csc_matrix(chosen @ sparse.diags(1 / whole))
    drawn = sparse.csr_matrix((share > 0).astype(np.float32))
    count = np.asarray(drawn.sum(axis=1)).ravel()
    telling = drawn[(count > 1) & (count <= MOST_PAGES)]
    both = sparse.triu(telling.T @ telling, k=1).tocoo()
    meet = (both.data >= 2) & holds[both.row] & holds[both.col]
    one, other = both.row[meet], both.col[meet]
    rows = share.T.tocsr()
    least = rows[one].minimum(rows[other]) if len(one) else sparse.csr_matrix((0, 1))
    alike = np.asarray(least.sum(axis=1)).ravel() >= ONE_TOPIC
    return connected(one[alike].astype(np.int64), other[alike].astype(np.int64), pages)


def _by_results(topic: Ints, owner: Ints, near: sparse.csr_matrix, known: NDArray[np.bool_]) -> Ints:
    """Topics joined, divided and queries moved by shared results: see `by_owner`."""
    has_topic = topic >= 0
    _, dense = np.unique(topic[has_topic], return_inverse=True)
    result = topic.copy()
    result[has_topic] = dense
    member = _members(result, has_topic)
    leads = sparse.csr_matrix(near @ member)
    row, column = places(leads)
    kept = has_topic[row] & (result[row] == column)
    alone = has_topic & known & (np.bincount(row[kept], minlength=len(topic)) == 0) & (np.diff(leads.indptr) > 0)
    moved = np.flatnonzero(alone)
    result[moved] = strongest(sparse.csr_matrix(leads[moved]))
    member = _members(result, has_topic)
    asks = sparse.csr_matrix(member.T @ sparse.diags((has_topic & known).astype(float)) @ (near @ member > 0).astype(float)).tocoo()
    size = np.bincount(result[has_topic & known], minlength=member.shape[1])
    smaller = (size[asks.row] > 0) & (asks.row != asks.col) & (size[asks.row] <= size[asks.col])
    joined = smaller & (asks.data >= ONE_RESULT * size[asks.row])
    body = connected(asks.row[joined].astype(np.int64), asks.col[joined].astype(np.int64), member.shape[1])
    result[has_topic] = body[result[has_topic]]
    return _divided(result, owner, near, has_topic & known)


def _divided(topic: Ints, owner: Ints, near: sparse.csr_matrix, known: NDArray[np.bool_]) -> Ints:
    """Topics, with those divided whose results fall into parts without common results. Queries without results go with most queries of their
    page, else to the largest part.
    """
    links = near.tocoo()
    inside = known[links.row] & known[links.col] & (topic[links.row] == topic[links.col])
    part = connected(links.row[inside].astype(np.int64), links.col[inside].astype(np.int64), len(topic))
    size = np.bincount(part)[part]
    order = np.lexsort([part, -size, topic])
    first = order[np.unique(topic[order], return_index=True)[1]]
    main = np.full(int(topic.max()) + 2, -1)
    main[topic[first]] = part[first]
    apart = known & (size >= 2) & (part != main[topic]) & (topic >= 0)
    divided = np.where(apart, int(topic.max()) + 1 + part, topic)
    has_topic = topic >= 0
    of_page = np.full(len(topic), -1)
    of_page[has_topic] = np.unique(np.stack([topic[has_topic], owner[has_topic]]), axis=1, return_inverse=True)[1].ravel()
    shape = (int(of_page.max()) + 1, int(divided.max()) + 1)
    tells = known & has_topic
    went = strongest(sparse.csr_matrix((np.ones(int(tells.sum())), (of_page[tells], divided[tells])), shape=shape))[of_page]
    return np.where(has_topic & ~known & (went >= 0), went, divided)


def _words_of_owners(topic: Ints, has_topic: NDArray[np.bool_], owner: Ints, on_page: sparse.csr_matrix) -> sparse.csr_matrix:
    """Topics x words (0 to 1) of the pages that own queries of each."""
    at = np.flatnonzero(has_topic)
    of = np.unique(np.stack([topic[at], owner[at]]), axis=1)
    return sparse.csr_matrix(
        sparse.csr_matrix((np.ones(of.shape[1]), (of[0], of[1])), shape=(int(topic.max()) + 1, on_page.shape[0])) @ on_page
    )


def _held_words(count: sparse.csr_matrix, size: Floats, on_pages: sparse.csr_matrix | None) -> sparse.csr_matrix:
    """Topics x words (0 to 1): the share of the queries of each with the word, or its weight on the pages. count: queries with the word."""
    holds = sparse.csr_matrix(sparse.diags(1 / np.maximum(size, 1)) @ count)
    if on_pages is not None:
        holds = sparse.csr_matrix(holds.maximum(on_pages))
    holds.data = np.minimum(holds.data, 1.0)
    return holds


def _telling(holds: sparse.csr_matrix) -> Floats:
    """Weight of each word: ln(1 + topics / topics with it), times its importance in those that have it (its mean weight there):
    words that occur here and there in any topic fade without a list. A word of no topic has the largest weight.
    """
    on = np.bincount(holds.indices, minlength=holds.shape[1])
    point = np.where(on > 0, np.asarray(holds.sum(axis=0)).ravel() / np.maximum(on, 1), 1.0)
    weight: Floats = np.log1p(np.count_nonzero(np.diff(holds.indptr)) / np.maximum(on, 1.0)) * point
    return weight


def home_by_words(
    query_words: sparse.csr_matrix,
    topic: Ints,
    words: sparse.csr_matrix,
    on_pages: sparse.csr_matrix | None = None,
    least: float = ANSWERED,
) -> tuple[Ints, Floats]:
    """For each query the topic that has its distinctive words in its queries or on its pages, -1 for none; and how strongly it has them (0 to
    1). least: the required share of their weight.

    Args:
        query_words: queries x words (0 or 1); topic: of each known query, from 0; words: known queries x words, of the same columns;
            on_pages: topics x words (0 to 1) of the pages.
    """
    member = _members(topic, np.ones(len(topic), dtype=bool))
    count, size = sparse.csr_matrix(member.T @ words), np.asarray(member.sum(axis=0)).ravel()
    holds = _held_words(count, size, on_pages)
    weight = _telling(holds)
    query, home, _, strongly = carried_by(query_words, holds, weight, least)
    # what its queries ask; the page may say little about it
    held_words = sparse.csr_matrix(_held_words(count, size, None).multiply(weight[None, :]))
    covered = (
        np.asarray(held_words[home].multiply(query_words[query]).sum(axis=1)).ravel()
        / np.maximum(np.asarray(held_words.sum(axis=1)).ravel(), 1e-9)[home]
    )
    shape = (query_words.shape[0], holds.shape[0])
    best = strongest(sparse.csr_matrix((strongly * (1e-3 + covered), (query, home)), shape=shape))
    strength = sparse.csr_matrix((strongly, (query, home)), shape=shape)
    return best, np.asarray(strength[np.arange(len(best)), np.maximum(best, 0)]).ravel()
