"""The query map: how far each page answers each of its queries, and its role."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core.brand import brand_columns
from nibbet.core.pull import shrunk_pull, weighted_position
from nibbet.core.tables import THIN_CLICKS
from nibbet.core.thresholds import Thresholds
from nibbet.core.words import Lexicon, covered_share, numbered, rarity, typos_mended
from nibbet.once import workers

Floats = NDArray[np.float64]

#: weight of a word by its place on the page
FIELDS = {"title": 1.0, "h1": 1.0, "path": 0.9, "headings": 0.75, "description": 0.6, "text": 0.5}
#: weight of a word in links to the page: others describe its subject, but also write "here" and "more"
ANCHOR = 0.6
#: share of the coverage missing by words that behaviour can fill: usual CTR at a good position, or the usual position of the page for its
#: subject
BEHAVIOUR_SHARE, STANDING_SHARE = 0.6, 0.5
#: coverage by words from which a page certainly answers, such pairs needed to estimate their spread, the default spread, the least, and the
#: least between two pages: those on one question may stand half as far again from each other, however steady their positions are
SURE, SURE_PAIRS, USUAL_SPREAD, LEAST_SPREAD, LEAST_APART = 0.95, 50, 0.3, 0.1, 0.2
#: distance below its own standing, in standard deviations, at which a page answers as usual, doubtfully, and not at all where words are
#: missing
AS_USUAL, DOUBTED, NOT_MEANT = 1.0, 2.5, 4.5
#: share of words that must be missing for a low position to count fully, and share that must be present for a usual position to count
MISSING, SOME = 0.25, 0.25
#: the roles, by precedence
ROLES: pd.CategoricalDtype = pd.CategoricalDtype(["owner", "rival", "passing", "stray"])
OWNER, RIVAL, PASSING, STRAY = range(4)
ROWS_AT_ONCE = 500_000


def page_words(pages: pd.DataFrame, lexicon: Lexicon, anchors: pd.DataFrame | None = None) -> sparse.csr_matrix:
    """Pages x words: the weight (0 to 1, see FIELDS) of the best place of each word.

    Args:
        pages: any of title, h1, headings, description, text (texts or null) and path.
        anchors: page (row number in `pages`), anchor: texts of links that lead to it, each once.
    """
    tables = [(lexicon.matrix(pages[name]), weight) for name, weight in FIELDS.items() if name in pages]
    if anchors is not None and len(anchors):
        number, texts = pd.factorize(anchors["anchor"])
        leads = sparse.csr_matrix((np.ones(len(anchors), dtype=np.float32), (anchors["page"], number)), shape=(len(pages), len(texts)))
        text_words = sparse.csr_matrix(leads @ lexicon.matrix(pd.Series(texts)))
        text_words.data[:] = 1.0
        tables.append((text_words, ANCHOR))
    best = sparse.csr_matrix((len(pages), 1))
    for table, weight in tables:
        wide, best = lexicon.same_width(table, best)
        best = best.maximum(wide * weight)
    return best.tocsr()


def add_answer(
    pairs: pd.DataFrame,
    pages: pd.DataFrame,
    *,
    brand: list[str],
    language: str,
    lexicon: Lexicon | None = None,
    on_page: sparse.csr_matrix | None = None,
) -> pd.DataFrame:
    """The pairs with answer: 0 to 1, how far the page answers the query.

    Args:
        pairs: page (row number in `pages`), query, clicks, impressions, expected_clicks, position (null where unknown).
        pages: path, and title, h1, headings, description where known.
        lexicon, on_page: the result of `page_words` for these pages with this lexicon, if available.
    Returns:
        The same rows with answer. By words: the share of the distinctive words of the query that the page contains. Behaviour may fill
        part of the rest: a page with a good position and the usual CTR answers, in whatever words, and so does one with
        the same position for the query as for its own subject. Where words are missing and the position is far below that, or far behind
        another page of the site, the page does not answer: the shared words are those of its subject, not of the question.
    """
    lexicon = lexicon or Lexicon(language)
    on_page = page_words(pages, lexicon) if on_page is None else on_page
    number, texts, words = lexicon.of_queries(pairs)
    words = typos_mended(words, lexicon.words, np.unique(on_page.indices))
    words, on_page = lexicon.same_width(words, on_page)
    home = pairs["page"].to_numpy()
    drawn = sparse.csr_matrix((np.ones(len(pairs), dtype=np.float32), (home, number)), shape=(len(pages), len(texts))) @ words
    weight = rarity(drawn.tocsr())
    known_brand = brand_columns(lexicon, brand)
    weight[known_brand[known_brand < len(weight)]] *= 0.05

    def covered(at: int) -> Floats:
        part = slice(at, at + ROWS_AT_ONCE)
        return covered_share(words[number[part]], on_page[home[part]], weight)

    with workers() as pool:  # sparse tables are computed outside the interpreter's lock
        share = np.concatenate([np.zeros(0), *pool.map(covered, range(0, len(pairs), ROWS_AT_ONCE))])
    pull = np.nan_to_num(shrunk_pull(pairs["clicks"].to_numpy(float), pairs["expected_clicks"].to_numpy(float)), nan=0.0)
    place = pairs["position"].fillna(100.0).to_numpy(float)
    behaviour = np.clip((pull - 0.4) / 0.5, 0, 1) * np.clip((9.0 - place) / 5.0, 0, 1)
    blended = share + (1 - share) * BEHAVIOUR_SHARE * behaviour
    below = _below_its_own(pairs, number, blended)
    usual = np.clip((DOUBTED - 0.5 - below) / AS_USUAL, 0, 1) * (blended >= SOME)
    off_topic = np.clip((below - DOUBTED) / (NOT_MEANT - DOUBTED), 0, 1) * np.clip((1 - blended) / MISSING, 0, 1)
    return pairs.assign(answer=np.clip(blended * (1 - off_topic) + (1 - blended) * STANDING_SHARE * usual, 0, 1))


def _below_its_own(pairs: pd.DataFrame, query: NDArray[np.int64], answer: Floats) -> Floats:
    """Distance of the position of each pair below the standing of the page, or behind the best page of the site (and further than for anything
    that it certainly answers: the weaker of two pages on one question is behind throughout), in standard deviations of log position
    among pairs that certainly answer; DOUBTED without a position.

    The standing of a page is the mean log position, weighted by actual and expected clicks, over the queries for which the site shows it
    most and which it answers.
    """
    page, place = pairs["page"].to_numpy(), np.log(pairs["position"].clip(lower=1.0).to_numpy(float))
    shown, known = pairs["impressions"].to_numpy(float), ~np.isnan(place)
    best, most = np.full(query.max(initial=-1) + 1, np.inf), np.zeros(query.max(initial=-1) + 1)
    np.minimum.at(best, query[known], place[known])
    np.maximum.at(most, query, shown)
    behind = np.where(known, place, 0.0) - np.where(known, best[query], 0.0)
    weight = (pairs["clicks"] + pairs["expected_clicks"]).to_numpy(float) * answer**2 * (shown >= most[query]) + 1e-6
    weight[~known] = 0.0
    sums = np.bincount(page, weight)
    page_place = np.bincount(page, weight * np.where(known, place, 0.0)) / np.where(sums > 0, sums, 1.0)
    beyond = np.where(known, place - page_place[page], 0.0)
    certain = known & (answer > SURE)
    weaker = np.full(page.max(initial=-1) + 1, np.inf)
    np.minimum.at(weaker, page[certain], behind[certain])
    weaker[np.isinf(weaker)] = 0.0
    sure = beyond[certain & (behind <= 0)]
    low, middle, high = np.quantile(sure, [0.16, 0.5, 0.84]) if len(sure) >= SURE_PAIRS else (-USUAL_SPREAD, 0.0, USUAL_SPREAD)
    spread = max((high - low) / 2, LEAST_SPREAD)
    return np.where(known, np.maximum((beyond - middle) / spread, (behind - weaker[page]) / max(spread, LEAST_APART)), DOUBTED)


def add_roles(
    pairs: pd.DataFrame,
    addresses: pd.Series,
    t: Thresholds,
    targets: pd.DataFrame | None = None,
    dead: pd.Series | None = None,
) -> pd.DataFrame:
    """The query map with roles, including a row of zeros for every owner named by editors without search rows.

    Args:
        pairs: page, query, clicks, impressions, answer; one row per pair.
        addresses: the address of each page, by page: its length and alphabetical order break ties.
        targets: page, query named by editors (one page per query).
        dead: of each page, whether it fails or is blocked from the index: such a page owns only what no living page answers. Defaults to
            none.
    Returns:
        The pairs with role (owner, rival, stray, passing), share_clicks and share_impressions (of the query; null where it has none).
        owner: the page named by editors, else, among pages that answer the query, the one with most clicks, then answer, impressions,
        shorter address, alphabetical order. rival: another page with a real share of an owned query. stray: neither the page nor any other
        page shown answers; `roles_in_topics` adds the evidence of topics.
    """
    pairs = _with_named(pairs, targets)
    query, unique = numbered(pairs)
    shares = {}
    for name in ("clicks", "impressions"):
        whole = np.bincount(query, pairs[name].to_numpy(float), len(unique))[query]
        shares[f"share_{name}"] = np.divide(pairs[name].to_numpy(float), whole, out=np.full(len(pairs), np.nan), where=whole > 0)
    answer, named = pairs["answer"].to_numpy(), pairs["named"].to_numpy(bool)
    page = addresses.index.get_indexer(pd.Index(pairs["page"]))
    answers = answer >= t.answers
    gone = np.zeros(len(pairs), dtype=bool) if dead is None else dead.to_numpy(bool)[page]
    fit = (pairs["clicks"] + 0.02 * pairs["impressions"]).to_numpy() * answer**2
    length, alphabet = addresses.str.len().to_numpy()[page], addresses.rank().to_numpy()[page]
    able = answers | named
    several = np.flatnonzero(able & (np.bincount(query[able], minlength=len(unique))[query] > 1))
    order = several[np.lexsort([key[several] for key in (alphabet, length, -answer, -fit, ~named, gone, query)])]
    owner = able.copy()
    owner[order] = np.diff(query[order], prepend=-1) != 0
    owned = np.bincount(query[owner], minlength=len(unique))[query] > 0
    answered = np.bincount(query[answers], minlength=len(unique))[query] > 0
    share = np.fmax(np.fmax(shares["share_clicks"], shares["share_impressions"]), 0.0)
    role = np.full(len(pairs), PASSING, dtype=np.int8)
    role[~answers & ~answered & ~owned] = STRAY
    role[owned & (share >= t.rival_share)] = RIVAL
    role[owner] = OWNER
    return pairs.assign(**shares, role=pd.Categorical.from_codes(role, dtype=ROLES)).drop(columns="named")


def roles_in_topics(pairs: pd.DataFrame, t: Thresholds, targets: pd.DataFrame | None, dead: pd.Series) -> pd.Series:
    """The roles once topics are known.

    Args:
        pairs: page, query, clicks, answer, share_clicks, share_impressions, role as from `add_roles`, and topic (categories; null where set
            aside).
        targets: page, query named by editors: these owners stay; dead: as in `add_roles`.
    Returns:
        A query whose owner mainly has another topic goes to the page that owns most of its own topic, if that page is shown for it and
        answers it, and the owner has fewer than THIN_CLICKS clicks or no more than that page: the words of a subject make a page look like
            an answer
        to the questions of sister pages. A stray in a topic that another living page owns is passing: that page answers it.
    """
    number, queries = numbered(pairs)
    topic, page = pairs["topic"].cat.codes.to_numpy().astype(np.int64), dead.index.get_indexer(pd.Index(pairs["page"]))
    role, living = pairs["role"].cat.codes.to_numpy().copy(), ~dead.to_numpy(bool)[page]
    owners = np.flatnonzero((role == OWNER) & (topic >= 0))
    owned_topics, by, count = _owned_topics(topic[owners], page[owners])
    home = np.full(len(dead), -1)
    order = np.argsort(count, kind="stable")
    home[by[order]] = owned_topics[order]  # the last written is the topic of which the page owns most
    main, several = _main_pages(owned_topics, by, count, ~dead.to_numpy(bool), len(pairs["topic"].cat.categories))
    owner_of = np.full(len(queries), -1)
    owner_of[number[owners]] = owners
    named = np.zeros(len(queries), dtype=bool)
    if targets is not None:
        named = queries.isin(targets["query"]).to_numpy()
    able = np.flatnonzero((page == main[topic]) & (role != OWNER) & living & (pairs["answer"] >= t.answers).to_numpy() & ~named[number])
    able = able[owner_of[number[able]] >= 0]
    was = owner_of[number[able]]
    clicks = pairs["clicks"].to_numpy(float)
    settled = (home[page[was]] != topic[was]) & ((clicks[was] < THIN_CLICKS) | (clicks[was] <= clicks[able]))
    share = np.fmax(pairs["share_clicks"].to_numpy(float), pairs["share_impressions"].to_numpy(float))
    role[was[settled]] = np.where(share[was[settled]] >= t.rival_share, RIVAL, PASSING)
    role[able[settled]] = OWNER
    role[(role == STRAY) & (main[topic] >= 0) & (several[topic] | (main[topic] != page))] = PASSING
    return pd.Series(pd.Categorical.from_codes(role, dtype=ROLES), index=pairs.index)


def main_pages(pairs: pd.DataFrame, dead: pd.Series) -> NDArray[np.int64]:
    """The page of the topic of each row: the living page that owns most of its queries, by its place in `dead`; -1 without one or without a
    topic.

    Args:
        pairs, dead: as in `roles_in_topics`.
    """
    topic, page = pairs["topic"].cat.codes.to_numpy().astype(np.int64), dead.index.get_indexer(pd.Index(pairs["page"]))
    owners = pairs["role"].eq("owner").to_numpy() & (topic >= 0)
    return _main_pages(*_owned_topics(topic[owners], page[owners]), ~dead.to_numpy(bool), len(pairs["topic"].cat.categories))[0][topic]


def _owned_topics(topic: NDArray[np.int64], page: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """Topic, page and number of common rows, for each combination that occurs."""
    wide = int(page.max(initial=-1)) + 1
    both, count = np.unique(topic * wide + page, return_counts=True)
    return both // max(wide, 1), both % max(wide, 1), count


def _main_pages(
    topic: NDArray[np.int64], page: NDArray[np.int64], count: NDArray[np.int64], living: NDArray[np.bool_], topics: int
) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """For each topic the living page that owns most of it, the first of equals, -1 without one; and whether several own it. An additional last
    element is for rows without topic.
    """
    topic, page, count = topic[living[page]], page[living[page]], count[living[page]]
    main = np.full(topics + 1, -1)
    order = np.lexsort([-page, count])
    main[topic[order]] = page[order]  # the last written owns most
    return main, np.bincount(topic, minlength=topics + 1) > 1


def _with_named(pairs: pd.DataFrame, targets: pd.DataFrame | None) -> pd.DataFrame:
    """The pairs with named: whether editors meant the page for the query; with a row of zeros for each such pair without search rows."""
    if targets is None or targets.empty:
        return pairs.assign(named=False)
    targets = targets.drop_duplicates("query").astype({"query": pairs["query"].dtype})
    of_pages = pairs.loc[pairs["page"].isin(targets["page"]), ["page", "query"]].reset_index(names="row")
    merged = of_pages.merge(targets, on=["page", "query"], how="right", validate="1:1")
    pairs = pairs.assign(named=pairs.index.isin(merged["row"].dropna()))
    new = merged.loc[merged["row"].isna(), ["page", "query"]]
    if new.empty:
        return pairs
    counts = [c for c in ("clicks", "impressions", "expected_clicks", "days", "position_sum", "placed", "answer") if c in pairs]
    added = new.assign(named=True, **dict.fromkeys(counts, 0))
    both = pd.concat([pairs, added], ignore_index=True)
    whole = both.astype({c: pairs[c].dtype for c in counts})
    return whole.sort_values(["page", "impressions", "query"], ascending=[True, False, True], ignore_index=True)


def query_totals(pairs: pd.DataFrame) -> pd.DataFrame:
    """One row per query: pages, clicks, impressions, position (weighted), brand; by impressions."""
    sums = pairs.groupby("query", observed=True).agg(
        pages=("page", "size"),
        clicks=("clicks", "sum"),
        impressions=("impressions", "sum"),
        position_sum=("position_sum", "sum"),
        placed=("placed", "sum"),
        brand=("brand", "first"),
    )
    sums["position"] = weighted_position(sums["position_sum"], sums["placed"])
    return sums.drop(columns=["position_sum", "placed"]).sort_values(["impressions", "query"], ascending=[False, True]).reset_index()
