"""Topics: queries grouped so that one page can answer each group, who serves them, and what to do where none does."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from functools import cached_property

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core import sentences as say
from nibbet.core.brand import brand_pattern
from nibbet.core.entries import connected, largest, places, strongest
from nibbet.core.languages import asked_words, code_of, languages_of
from nibbet.core.members import queries_in_groups
from nibbet.core.owned import by_owner
from nibbet.core.pull import weighted_position
from nibbet.core.tables import rows_at, spelt
from nibbet.core.windows import MONTH_DAYS, Window
from nibbet.core.words import LETTERS, Lexicon, bytes_met, in_one, in_portions, plain_array, typos_mended
from nibbet.once import threads

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

TOPICS = (
    "topic label language queries volume volume_kind clicks impressions position shown_share served page answered_share proposal gain gain_low gain_high "
    "worth peak because strength"
).split()
#: share of a topic's impressions on queries that an owner answers, from which it is covered, and from which partly
COVERED, PARTLY = 0.6, 0.2
#: how many times its mean month a topic's highest must have for a season
PEAK_MONTH = 1.5
#: why a query beyond the most wanted ones belongs to no topic
RARER = "rarer than the queries grouped"
#: how far the page that catches a topic must answer it to be extended; below, the topic has an intent of its own
NEAR = 0.4


@dataclass(frozen=True)
class Kinship:
    """How much each kind of evidence counts, and from which likeness (cosine) it counts at all."""

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
    """Which pages own queries. owner: of each query its page, -1 for none; chosen: queries x pages, clicks had and expected; on_page: pages x
    words (0..1), of the lexicon of the queries.
    """

    owner: Ints
    chosen: sparse.csr_matrix
    on_page: sparse.csr_matrix


#: pairs of queries whose words are compared at once
PRODUCTS = 2_000_000
#: a word in more queries than this brings none together by itself
MOST_QUERIES = 4000


def unit_rows(table: sparse.csr_matrix) -> sparse.csr_matrix:
    """The rows scaled to length 1; empty rows stay empty."""
    norm = np.sqrt(np.asarray(table.multiply(table).sum(axis=1)).ravel())
    return sparse.csr_matrix(sparse.diags(1 / np.maximum(norm, 1e-12)) @ table)


def alike(unit: sparse.csr_matrix, least: float, neighbours: int) -> sparse.csr_matrix:
    """Cosines of rows of length 1 from `least` up, each row with its nearest ones, both ways.

    Columns of more than MOST_QUERIES rows propose no pair: they are in the length of the rows, not in the product.
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
    that land on the same page: words that stand everywhere fade without a list, in any language.

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
    """Queries x queries: how much speaks for one topic, each pair of queries once.

    Args:
        words: queries x words (0 or 1); pages: queries x pages, impressions; results: queries x addresses (0 or 1) of their snapshots;
        shared: likeness of those results.
        answered: whether a page of the site answers the query; tongue: a number for its language, -1 where it is not known.
    Returns:
        Cosines of words, plus those of pages (little where no word is shared: a page may draw what it does not answer), plus those of
        results. Where the results of both queries are known and they share none, nothing else counts: alike words, other intent. What
        a page answers and what it draws without an answer are kin only by a part: the words they share are seldom the point. Queries in
        two languages are no kin: one page cannot answer both.
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
    # sums of weights of many queries need long floats
    return sparse.csr_matrix((graph.data[once].astype(np.float64), column[once], ends), shape=graph.shape)


def _products(unit: sparse.csr_matrix, near: sparse.csr_matrix) -> NDArray[np.float32]:
    """The product of the two rows of `unit` that each entry of `near` stands for, some millions at a time."""
    row, column = places(near)
    found = np.empty(len(row), dtype=np.float32)
    for start in range(0, len(row), PRODUCTS):
        part = slice(start, start + PRODUCTS)
        found[part] = np.asarray(unit[row[part]].multiply(unit[column[part]]).sum(axis=1)).ravel()
    return found


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
    """The group of each query (numbers from 0), so that one page can answer each.

    Args:
        texts: distinct queries; pages, results, answered, tongue: as in `kinship`, in the order of the texts; cut: a lexicon and texts x
            words, where they are cut already; owned: which pages own the queries, where any do: see `core.owned`.
    By the Louvain method (Blondel et al. 2008, J. Stat. Mech. P10008) on the constant Potts model (Traag, Van Dooren & Nesterov 2011,
    Phys. Rev. E 84:016114), which has no resolution limit: a group must hold together by more than `density`, however large the rest is.
    """
    from sknetwork.clustering import Louvain

    how = how or Kinship()
    lexicon = cut[0] if cut else Lexicon(language)
    words = typos_mended(cut[1] if cut else lexicon.matrix(texts), lexicon.words).astype(np.float64)
    shared = alike(unit_rows(results), how.results_from, how.neighbours) if results is not None and results.nnz else None
    graph = kinship(words, pages, results, how, answered, shared, tongue)
    if not graph.nnz:
        return _held(np.arange(len(texts)), owned, words, results, shared)
    least = how.density[0]
    least += how.density[1] if pages is not None and pages.nnz else 0.0
    least += how.density[2] if shared is not None else 0.0
    louvain = Louvain(
        modularity="potts",
        resolution=least * graph.shape[0] ** 2 / (2 * graph.sum()),
        tol_optimization=1e-4,  # less than that is no better against known intents, and slower
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
    return _held(labels, owned, words, results, shared)


def _held(
    labels: Ints, owned: Owned | None, words: sparse.csr_matrix, results: sparse.csr_matrix | None, near: sparse.csr_matrix | None
) -> Ints:
    """The groups with those queries that pages own grouped by their owners."""
    if owned is None:
        return labels
    known = None if results is None else np.asarray(results.sum(axis=1)).ravel() > 0
    width = max(words.shape[1], owned.on_page.shape[1])
    wide = [sparse.csr_matrix((t.data, t.indices, t.indptr), shape=(t.shape[0], width)) for t in (words, owned.on_page)]
    return by_owner(labels, owned.owner, owned.chosen, wide[0], wide[1], near, known)


#: queries on a page from which it speaks for a body of its own, and the share of the fewer that two pages have in common from which both are one
BODY, SAME_BODY = 3, 0.5
#: how many queries of a body a word that it never has is counted for
RARE = 0.3


def bodies_of_pages(labels: Ints, pages: sparse.csr_matrix, near: sparse.csr_matrix | None) -> Ints:
    """The body of each query inside its group: those that land on one page, where BODY and more of the group do; -1 where it has none.

    Pages that draw the same queries, or queries that share results, are one body. pages: queries x pages, impressions; near: likeness of results.
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
    """The body of each query inside its group: those that share results, two and more; -1 where it has none. near: likeness of results."""
    shared = near.tocoo()
    inside = labels[shared.row] == labels[shared.col]
    body = connected(shared.row[inside], shared.col[inside], len(labels))
    return np.where(np.bincount(body)[body] >= 2, body, -1)


def intents_of(results: sparse.csr_matrix, how: Kinship | None = None) -> Ints:
    """The intent of each query whose results are known, by likeness of results alone, passed on from query to query; -1 for the rest.

    Args:
        results: queries x addresses (0 or 1).
    """
    how = how or Kinship()
    near = alike(unit_rows(results), how.results_from, how.neighbours).tocoo()
    body = connected(near.row.astype(np.int64), near.col.astype(np.int64), results.shape[0])
    return np.where(np.diff(results.indptr) > 0, body, -1)


def divided(labels: Ints, body: Ints, words: sparse.csr_matrix) -> Ints:
    """The groups with those divided that have two bodies and more.

    Queries without a body go where their words are more at home than in the group as a whole (naive Bayes), and stay apart where no word speaks.

    Args:
        body: of each query, inside its group, -1 for none; words: queries x words (0 or 1).
    """
    groups, bodies = int(labels.max()) + 1, int(body.max(initial=-1)) + 1
    found, known = body.copy(), body >= 0
    of = np.full(bodies, -1)
    of[body[known]] = labels[known]
    divides = (np.bincount(of[of >= 0], minlength=groups) >= 2)[labels]
    told, homeless = np.flatnonzero(divides & known), np.flatnonzero(divides & ~known)
    if not len(told):
        return labels
    # a word of one group is not that of another: so nothing is compared across groups
    rows = np.concatenate([told, homeless])
    said = words[rows].tocoo()
    column = np.unique(labels[rows[said.row]] * words.shape[1] + said.col, return_inverse=True)[1]
    own = sparse.csr_matrix((np.ones(len(column)), (said.row, column)))
    member = sparse.csr_matrix((np.ones(len(told)), (body[told], np.arange(len(told)))), shape=(bodies, len(told)))
    here = (member @ own[: len(told)]).tocoo()
    part = np.bincount(body[told], minlength=bodies) / np.maximum(np.bincount(labels[told], minlength=groups)[of], 1)
    usual = np.asarray(own[: len(told)].sum(axis=0)).ravel()[here.col] * part[here.row]
    speaks = sparse.csr_matrix((np.log((here.data + RARE) / (RARE * (usual + 1))), (here.row, here.col)), shape=here.shape)
    found[homeless] = strongest(own[len(told) :] @ speaks.T)
    return np.unique(np.where(divides & (found >= 0), groups + found, labels), return_inverse=True)[1].astype(np.int64)


def set_aside(texts: pd.Series, brand: Sequence[str], rules: list[str]) -> pd.Series:
    """Why a query belongs to no topic: brand, an address typed as a query, an e-mail address or a long number, no words, over 14 words, or a
    rule; null for those that do; as categories.

    Args:
        texts: distinct queries; brand: its spellings; rules: words, phrases or `re:` expressions that set queries aside.
    """
    names = brand_pattern(brand)
    reasons = ["brand", "address typed as a query", "a person's address or number", "no words", "over 14 words", "by [topics] aside"]

    def told(portion: pa.Array) -> NDArray[np.int64]:
        lower = plain_array(portion)
        met = bytes_met(lower, LETTERS[1:], " ", ".:", "@", "0123456789")

        def matching(some: NDArray[np.bool_], pattern: str) -> NDArray[np.bool_]:
            if some.any():
                some[some] = pc.match_substring_regex(lower.filter(pa.array(some)), pattern).to_numpy(zero_copy_only=False)
            return some

        has = {name: met & 1 << number > 0 for number, name in enumerate(("letter", "blank", "mark", "at", "digit", "other"))}
        small = pc.fill_null(pc.utf8_lower(portion), "")  # with its accents, as the brand has them
        brands = pc.match_substring_regex(small, names).to_numpy(zero_copy_only=False) if names else np.zeros(len(met), dtype=bool)
        alone = r"^[^ ]+\.(com|org|net|info|eu|io|example|[a-z]{2}|co\.[a-z]{2})(/[^ ]*)?$"
        conditions = [
            brands,
            matching(has["mark"], rf"^(https?:|www\.)|{alone}"),
            matching(has["at"] | has["digit"], r"[^ ]+@[^ ]+\.[a-z]{2,}|[0-9][0-9 ()/-]{6,}[0-9]"),
            matching(~has["letter"], r"^\P{L}*$"),
            has["blank"] & (pc.count_substring(lower, " ").to_numpy(zero_copy_only=False) >= 14),
        ]
        return np.select(conditions, np.arange(len(conditions)), -1)

    found = np.concatenate(in_portions(told, in_one(texts)))
    if rules:
        ruled = texts.isin(queries_in_groups(texts, {"aside": rules})["query"]).to_numpy()
        found = np.where(ruled & (found < 0), len(reasons) - 1, found)
    return pd.Series(pd.Categorical.from_codes(found, dtype=pd.CategoricalDtype(reasons)), index=texts.index)


@dataclass(frozen=True)
class Grouping:
    """Queries and their topics.

    queries: query, impressions, demand (searches a month; null where no source tells), and as categories aside (why it belongs to no topic,
    else null), language (ISO code where it is asked in another than the site's, else null), topic; one row per query.
    pages, results: grouped queries x pages (impressions; what is drawn without an answer in columns of its own) and x addresses of their results (None without snapshots). topic: of each pair, null where its query is set aside.
    """

    queries: pd.DataFrame
    pages: sparse.csr_matrix
    results: sparse.csr_matrix | None
    topic: pd.Series

    @cached_property
    def grouped(self) -> pd.DataFrame:
        """The queries that have a topic, in the order of the matrices: query, impressions, demand, language, topic."""
        rows = rows_at(self.queries, self.queries["topic"].notna(), ["query", "impressions", "demand", "language", "topic"])
        return rows.assign(language=spelt(rows["language"]), topic=spelt(rows["topic"])).reset_index(drop=True)


def group_pairs(
    pairs: pd.DataFrame,
    pages: int,
    demand: pd.DataFrame | None,
    results: pd.DataFrame | None,
    *,
    brand: Sequence[str],
    aside: list[str],
    most: int,
    language: str,
    lexicon: Lexicon | None = None,
    translate: bool = True,
    lone: pd.DataFrame | None = None,
    on_page: sparse.csr_matrix | None = None,
) -> Grouping:
    """The queries of the map, and those that only a source of demand knows, in topics.

    Args:
        pairs: page (number), query, role, impressions, clicks, expected_clicks; pages: how many pages the site has.
        demand: query, demand; results: query, url of first results; None without such a source.
        aside: rules as in `set_aside`; most: how many of the most wanted queries are grouped.
        lexicon: of that language, where the words of the queries may have been cut already.
        translate: whether queries in other languages make topics too; else they are set aside.
        lone: query, impressions: totals of queries whose pages no row tells; their words and results group them.
        on_page: pages x words (0..1) of that lexicon: with it, what one page owns is one topic.
    """
    lexicon = lexicon or Lexicon(language)
    number, texts, words = lexicon.of_queries(pairs)
    shown = pairs["impressions"].to_numpy(float)
    asked = pd.DataFrame({"query": texts.array, "impressions": np.bincount(number, shown, len(texts))}).reset_index(names="number")
    if demand is not None:
        asked = asked.merge(demand, on="query", how="outer", validate="1:1").sort_values(["number", "query"], ignore_index=True)
    else:
        asked["demand"] = np.nan
    asked = _with_lone(asked, lone)
    asked = asked.fillna({"impressions": 0.0}).astype({"query": "str"})
    if len(asked) > len(texts):  # queries that demand alone knows stand behind the others
        more = lexicon.matrix(asked["query"].iloc[len(texts) :])
        words = sparse.csr_matrix(sparse.vstack(lexicon.same_width(words, more)))
    aside_of = set_aside(asked["query"], brand, aside).cat
    reason, reasons = aside_of.codes.to_numpy().astype(np.int16), [*aside_of.categories, RARER]
    wanted = np.fmax(asked["impressions"].to_numpy(float), asked["demand"].to_numpy(float))
    able = np.flatnonzero(reason < 0)
    kept = able[largest(wanted[able], most)]
    reason[np.setdiff1d(able, kept, assume_unique=True)] = len(reasons) - 1
    place = pd.Series(np.arange(len(kept)), index=asked["number"].iloc[kept])
    place = place[place.index.notna()].reindex(np.arange(len(texts)), fill_value=-1)  # queries that no pair has are known to demand alone
    row = place.to_numpy()[number]
    use, astray = row >= 0, pairs["role"].eq("stray").to_numpy()
    column = pairs["page"].to_numpy() + np.where(astray, pages, 0)
    drawn = sparse.csr_matrix((shown[use] + 0.5, (row[use], column[use])), shape=(len(kept), 2 * pages))
    answered = np.ones(len(kept), dtype=bool)
    answered[row[use & astray]] = False
    queries = asked["query"].iloc[kept].reset_index(drop=True)
    catcher = np.full(len(kept), -1)
    if not answered.all():
        catcher[~answered] = strongest(drawn[~answered][:, pages:])
    told = languages_of(queries, wanted[kept], catcher, code_of(language))
    asked["language"] = _among_all(told, kept, len(asked))
    if not translate and (left := told.notna().to_numpy()).any():
        spoken, languages = pd.factorize(told[left], sort=True)
        reason[kept[left]] = len(reasons) + spoken
        reasons += [f"in another language: {code}" for code in languages]
        kept, drawn, answered, told = kept[~left], drawn[~left], answered[~left], told[~left]
        queries = queries[~left].reset_index(drop=True)
        row = np.append(np.where(left, -1, np.cumsum(~left) - 1), -1)[row]
    listed = None if results is None else _listed(queries, results)
    tongue = np.where(answered, 0, pd.factorize(told, sort=True)[0] + 1)
    tongue = np.where(answered | told.notna().to_numpy(), tongue, -1)
    owned = None if on_page is None else _owned(pairs, row, (len(kept), pages), on_page)
    group = group_queries(
        queries,
        language=language,
        pages=drawn,
        results=listed,
        answered=answered,
        tongue=tongue,
        cut=(lexicon, words[kept]),
        owned=owned,
    )
    label = labels_of(queries, group, wanted[kept])
    asked["aside"], asked["topic"] = (
        pd.Categorical.from_codes(reason, dtype=pd.CategoricalDtype(reasons)),
        _among_all(label, kept, len(asked)),
    )
    code, labels = pd.factorize(label, sort=True)
    topic = pd.Series(pd.Categorical.from_codes(np.append(code, -1)[row], labels), index=pairs.index)
    return Grouping(asked.drop(columns="number"), drawn, listed, topic)


def _owned(pairs: pd.DataFrame, row: Ints, shape: tuple[int, int], on_page: sparse.csr_matrix) -> Owned:
    """Which page owns each grouped query, and what pages are chosen for. row: the grouped query of each pair, -1 for none; shape: queries x pages."""
    use, page = row >= 0, pairs["page"].to_numpy()
    chosen = pairs["clicks"].to_numpy(float) + pairs["expected_clicks"].to_numpy(float) + 1e-6
    owns = use & pairs["role"].eq("owner").to_numpy()
    owner = np.full(shape[0], -1)
    owner[row[owns]] = page[owns]
    return Owned(owner, sparse.csr_matrix((chosen[use], (row[use], page[use])), shape=shape), on_page)


def _with_lone(asked: pd.DataFrame, lone: pd.DataFrame | None) -> pd.DataFrame:
    """Queries with the impressions of totals that name no page; those that nothing else knows stand behind the others, by alphabet."""
    if lone is None or lone.empty:
        return asked
    own = lone.set_index("query")["impressions"].astype(float)
    more = own.index.difference(pd.Index(asked["query"]), sort=True)
    table = asked.set_index("query").reindex([*asked["query"], *more]).reset_index()
    return table.assign(impressions=table["impressions"].fillna(0.0) + table["query"].map(own).fillna(0.0))


def _among_all(texts: pd.Series, at: Ints, count: int) -> pd.Categorical:
    """Texts, null for none, at their places among `count` rows, as categories by alphabet; the other rows have none."""
    code, known = pd.factorize(texts, sort=True)
    codes = np.full(count, -1)
    codes[at] = code
    return pd.Categorical.from_codes(codes, known)


def _listed(queries: pd.Series, results: pd.DataFrame) -> sparse.csr_matrix:
    """Queries x addresses of their results, 0 or 1."""
    place, url = pd.Index(queries).get_indexer(results["query"]), pd.factorize(results["url"])[0]
    known = place >= 0
    table = sparse.csr_matrix((np.ones(int(known.sum())), (place[known], url[known])), shape=(len(queries), int(url.max(initial=0)) + 1))
    table.data[:] = 1.0
    return table


def labels_of(texts: pd.Series, group: Ints, weight: Floats) -> pd.Series:
    """The label of each query's group: its most wanted query, of equals the shorter, then by alphabet; it is also the topic's identity."""
    order = np.lexsort([texts.to_numpy(dtype=object), texts.str.len().to_numpy(), -weight, group])
    first = order[np.unique(group[order], return_index=True)[1]]
    head = np.zeros(int(group.max(initial=-1)) + 1, dtype=np.int64)
    head[group[first]] = first
    return texts.iloc[head[group]].set_axis(texts.index)


#: how a topic is served that the site is shown for, where no row names its pages
UNKNOWN = "unknown"


def topic_table(
    pairs: pd.DataFrame,
    strays: pd.DataFrame,
    wanted: pd.DataFrame,
    paths: pd.Series,
    window: Window,
    *,
    languages: pd.Series,
    strength: pd.Series,
    worth: pd.Series,
    peaks: pd.Series,
    least: float,
    pages_known: bool = True,
    dead: pd.Series | None = None,
) -> pd.DataFrame:
    """One row per topic: TOPICS, those with most to gain first, subjects in which the site does well before others of like gain.

    Args:
        pairs: the query map with topic (null where set aside): page, query, topic, role, answer, clicks, impressions, position_sum, placed.
        strays: page, query, topic, gain, gain_low, gain_high of openings that no page answers; of each query the one with most to gain counts.
        wanted: query, topic, demand: searches a month where a source tells them, also of queries the site is not shown for; language.
        paths: the path of each page, for the sentences.
        languages: ISO code of each page's own language, where a crawl tells it: a page is not translated into that.
        strength: of each page, how its section does in clicks per search beside the rest of the site (1: as usual).
        worth: of each page, what a visit from search earns in its section; of topics without a page, that of the site stands under -1.
        peaks: by topic, the next peak of its season; topics that have none are left out.
        least: gain a month below which nothing is proposed.
        pages_known: whether any row names the page of a query; else nobody can say which topics are answered.
        dead: of each page, whether it fails or is kept out of the index: what only such pages answer is uncovered, and the page is to be restored.
    """
    needed = ["page", "query", "topic", "role", "answer", "clicks", "impressions", "position_sum", "placed"]
    rows = rows_at(pairs, pairs["topic"].notna() & (pairs["impressions"] > 0), needed)
    sums = rows.groupby("topic").agg(
        clicks=("clicks", "sum"),
        impressions=("impressions", "sum"),
        position_sum=("position_sum", "sum"),
        placed=("placed", "sum"),
    )
    asked = wanted.groupby("topic").agg(queries=("query", "size"), demand=("demand", "sum"), told=("demand", "count"))
    table = sums.reindex(asked.index).fillna(0.0).join(asked)
    table["position"] = weighted_position(table["position_sum"], table["placed"])
    told = table["told"] * 2 >= table["queries"]
    table["volume"] = table["demand"].where(told, table["impressions"]).round().astype("int64")
    table["volume_kind"] = np.where(told, "searches a month", "impressions")
    table["shown_share"] = (
        (table["impressions"] / (table["demand"] * window.days / MONTH_DAYS)).where(told & (table["demand"] > 0)).clip(upper=1.0)
    )
    owned = rows[rows["role"] == "owner"]
    fails = owned["page"].map(dead).eq(True) if dead is not None else pd.Series(False, index=owned.index)
    lost, owned = owned[fails], owned[~fails]
    with_owner = rows["query"].isin(owned["query"])
    table["answered_share"] = (
        (rows[with_owner].groupby("topic")["impressions"].sum() / sums["impressions"]).reindex(table.index).fillna(0.0)
    )
    table["answered_share"] = table["answered_share"].clip(upper=1.0)
    table["served"] = np.select([table["answered_share"] >= COVERED, table["answered_share"] >= PARTLY], ["covered", "partly"], "uncovered")
    unknown = pd.Series(not pages_known, index=table.index)
    table["served"] = table["served"].where(~unknown, UNKNOWN)
    best = _leading(owned, "impressions")
    catcher = _leading(rows, "impressions")
    table["page"] = best.reindex(table.index).where(table["served"] != "uncovered", catcher.reindex(table.index))
    near = (rows["answer"] * rows["impressions"]).groupby([rows["topic"], rows["page"]]).sum() / rows.groupby(["topic", "page"])[
        "impressions"
    ].sum()
    close = near.reindex(pd.MultiIndex.from_arrays([table.index, table["page"]])).to_numpy()
    open_ones = strays[strays["topic"].notna()].sort_values(["query", "gain"], ascending=[True, False]).drop_duplicates("query")
    gains = open_ones.groupby("topic")[["gain", "gain_low", "gain_high"]].sum().reindex(table.index)
    open_ = table["served"] != "covered"
    table = table.join(gains.where(open_, np.nan))
    extend = (table["served"] == "partly") | (close >= NEAR)
    table["language"] = topic_languages(wanted).reindex(table.index).where(open_)
    table["page"], restore = _restored(table, lost)
    abroad = table["language"].notna() & table["page"].notna() & (table["page"].map(languages) != table["language"])
    table["proposal"] = np.select(
        [restore, ~open_ | ~(table["gain"] >= least) | unknown, abroad, extend & table["page"].notna()],
        ["restore", "none", "translate", "extend"],
        "new page",
    )
    table["because"] = _sentences(table, paths, window)
    table = table.rename_axis("topic").reset_index().assign(label=lambda t: t["topic"])
    table["strength"] = table["page"].map(strength)
    table["worth"] = table["gain"] * table["page"].fillna(-1).map(worth)
    table["peak"] = peaks.reindex(table["topic"]).to_numpy()
    leaning = (table["gain"] * table["strength"].fillna(1.0)).fillna(-1).to_numpy(float)
    order = np.lexsort([table["topic"].to_numpy(dtype=object), -table["volume"].to_numpy(float), -leaning])
    return table.iloc[order].reset_index(drop=True)[TOPICS]


def topic_peaks(searches: pd.DataFrame, wanted: pd.DataFrame, as_of: date) -> pd.Series:
    """By topic, the first day of the next month in which it is searched most; level topics are left out, and all where a year is not told.

    Args:
        searches: query, month, volume; wanted: query, topic. A topic has a season from PEAK_MONTH times its mean month on.
    """
    rows = searches.dropna(subset=["month", "volume"]).merge(wanted[["query", "topic"]], on="query")
    month = pd.to_datetime(rows["month"])
    if month.dt.month.nunique() < 12:
        return pd.Series(dtype="datetime64[ns]", index=pd.Index([], dtype="str"))
    sums = rows.groupby(["topic", month.dt.to_period("M")])["volume"].sum().rename_axis(["topic", "when"]).reset_index()
    means = sums.groupby(["topic", sums["when"].dt.month.rename("month")])["volume"].mean()
    high = means / means.groupby(level="topic").sum() * 12
    best = high.groupby(level="topic").idxmax().map(lambda key: key[1])
    best = best[high.groupby(level="topic").max() >= PEAK_MONTH]
    return pd.to_datetime(pd.DataFrame({"year": as_of.year + (best <= as_of.month), "month": best, "day": 1}))


def topic_languages(wanted: pd.DataFrame) -> pd.Series:
    """By topic, the other language that a third of its queries and more are told to be in; other topics are left out.

    Args:
        wanted: topic, language (null for the site's own, and where it is not told).
    """
    told = wanted.dropna(subset=["language"]).groupby(["topic", "language"]).size().rename("told").reset_index()
    first = told.sort_values(["topic", "told", "language"], ascending=[True, False, True]).drop_duplicates("topic").set_index("topic")
    return first.loc[first["told"] * 3 >= wanted.groupby("topic").size().reindex(first.index), "language"]


def _restored(table: pd.DataFrame, lost: pd.DataFrame) -> tuple[pd.Series, pd.Series]:
    """The page of each topic, and which topics wait for a page to be restored: what only a dead page answers, for most of what is shown.

    Args:
        lost: topic, page, impressions of queries that dead pages own.
    """
    of_dead = lost.groupby("topic")["impressions"].sum().reindex(table.index).fillna(0.0)
    restore = (table["served"] == "uncovered") & (of_dead >= COVERED * table["impressions"]) & (of_dead > 0)
    return _leading(lost, "impressions").reindex(table.index).where(restore, table["page"]), restore


def _leading(rows: pd.DataFrame, by: str) -> pd.Series:
    """Per topic the page that has most of it."""
    sums = rows.groupby(["topic", "page"])[by].sum().reset_index().sort_values(["topic", by, "page"], ascending=[True, False, True])
    return sums.drop_duplicates("topic").set_index("topic")["page"]


def _sentences(table: pd.DataFrame, paths: pd.Series, window: Window) -> pd.Series:
    page = say.named(table["page"].map(paths))
    shown = say.joined(say.count(table["impressions"]), " impressions at position ", say.place(table["position"]), f" ({window})")
    answered = say.joined(page, " answers ", say.share(table["answered_share"]), " of its ", shown, ".")
    caught = say.joined(asked_words(table["language"], "Asked in ", ". "), "No page answers it; ", page, " catches it: ", shown, ".")
    once = say.joined(page, " answered it, but fails or is kept out of the index: restore it first.")
    unseen = say.joined("The site is not shown for it; ", say.count(table["volume"]), " searches a month.")
    text = np.select(
        [(table["proposal"] == "restore").to_numpy(), (table["impressions"] == 0).to_numpy(), (table["served"] == "uncovered").to_numpy()],
        [once, unseen, caught],
        answered,
    )
    shown = "The site is shown " + say.count(table["impressions"]) + " times for it; no row names the pages."
    unknown = pd.Series(
        np.where(table["impressions"] > 0, shown, "No row names the pages of queries, so that nobody can say whether one answers it."),
        index=table.index,
    )
    return pd.Series(text, index=table.index, dtype="str").where(table["served"] != UNKNOWN, unknown)
