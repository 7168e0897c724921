"""Ideas compared with the topics of the site: the topic of each, who serves it, and whether two queries need one page or two."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core.kinship import telling, unit_rows
from nibbet.core.owned import home_by_words
from nibbet.core.topics import Grouping
from nibbet.core.words import Lexicon, as_typed, plain
from nibbet.errors import NotFoundError

IDEAS = "idea topic likeness queries volume volume_kind served page position advice".split()
#: cosine of words from which two queries share most words
KNOWN = 0.5
#: share of the weight of the words of an idea from which a topic is the nearest one
NEAREST = 0.3
#: share of first results in common from which two queries have the same intent, and below which they have different ones
SAME, OTHER = 0.4, 0.15


def check_ideas(
    ideas: pd.Series, known: Grouping, topics: pd.DataFrame, *, lexicon: Lexicon, on_page: sparse.csr_matrix, living: pd.Series
) -> pd.DataFrame:
    """For each idea its topic and what to do: IDEAS, in the given order.

    Args:
        ideas: texts; topics: as `core.topics.topic_table`, pages by address. on_page: pages x words (0 to 1) of that lexicon; living: the
            address of each page, null for those that cannot be found.
    Returns:
        likeness is 1 where the idea is a known query. Otherwise the idea belongs to a topic whose queries and page contain each of its
        distinctive words, and likeness says how strongly (0 to 1); the words of a subject alone do not suffice. An idea without a topic,
        but with a page that contains it, has that page and no topic; otherwise it has neither.
    """
    queries, texts = known.grouped, as_typed(ideas.fillna(""))
    number, names = pd.factorize(queries["topic"], sort=True)
    labels = pd.Series(names)
    at = pd.Index(queries["query"]).get_indexer(texts)
    home, likeness = np.where(at >= 0, np.append(number, -1)[at], -1), np.where(at >= 0, 1.0, np.nan)
    page, nearest = (pd.Series(None, index=range(len(texts)), dtype="object") for _ in range(2))
    unknown = np.flatnonzero(at < 0)
    if len(unknown) and len(queries):
        idea_words, words = lexicon.same_width(lexicon.matrix(texts.iloc[unknown]), lexicon.matrix(queries["query"]))
        idea_words, on_page = lexicon.same_width(idea_words, on_page)
        idea_words, words = (sparse.csr_matrix(table > 0, dtype=np.float64) for table in (idea_words, words))
        on_page = sparse.csr_matrix(on_page[living.notna().to_numpy()])
        living = living.dropna()
        place = pd.Index(living).get_indexer(topics.set_index("topic")["page"].reindex(names))
        none = sparse.csr_matrix((1, on_page.shape[1]))  # for topics without a page
        words_of_pages = sparse.csr_matrix(sparse.vstack([on_page, none]).tocsr()[np.where(place >= 0, place, len(living))])
        home[unknown], likeness[unknown] = home_by_words(idea_words, number, words, words_of_pages)
        lost = home[unknown] < 0
        if len(living):
            of_page, strong = home_by_words(idea_words[lost], np.arange(len(living)), on_page)
            likeness[unknown[lost]] = np.where(of_page >= 0, strong, np.nan)
            page.iloc[unknown[lost]] = _named(living, of_page)
        heard = (np.bincount(words.indices, minlength=words.shape[1]) > 0).astype(float)  # a word in no query makes nothing similar
        near = home_by_words(sparse.csr_matrix(idea_words[lost] @ sparse.diags(heard)), number, words, least=NEAREST)[0]
        nearest.iloc[unknown[lost]] = _named(labels, near)
    topic = pd.Series(_named(labels, home), dtype="str")
    table = pd.DataFrame({"idea": ideas.to_numpy(), "topic": topic, "likeness": likeness})
    table = table.merge(topics.drop(columns=["label"]), on="topic", how="left", validate="m:1")
    table["page"] = table["page"].astype("object").where(table["page"].notna(), page)
    unheard = pd.Series("nothing is known of it: ask for its demand first", index=table.index)
    unheard = unheard.where(nearest.isna(), unheard + ' (the nearest topic: "' + nearest.fillna("").astype("str") + '")')
    table["advice"] = np.select(
        [
            table["topic"].isna() & table["page"].isna(),
            table["topic"].isna() | (table["served"] == "covered"),
            table["proposal"] == "extend",
            table["proposal"] == "translate",
            table["proposal"] == "restore",
        ],
        [
            unheard,
            "would compete with the page named: work on that one",
            "extend the page named",
            "translate the page named",
            "restore the page named, which answered it",
        ],
        "a new page: none answers it",
    )
    return table[IDEAS]


def _named(names: pd.Series, at: NDArray[np.int64]) -> NDArray[np.object_]:
    """The names at their places, None for -1."""
    result = np.full(len(at), None, dtype=object)
    result[at >= 0] = names.to_numpy(dtype=object)[at[at >= 0]]
    return result


def between(one: str, other: str, known: Grouping, snapshots: pd.DataFrame | None, *, language: str) -> dict[str, Any]:
    """Whether two queries need one page or two: one, other, answer (one page, two pages, unclear), because, and the figures behind it.

    snapshots: query, kind (result, question), title; or None. Raises NotFoundError for a query that no source contains.
    """
    queries, texts = known.grouped, as_typed(pd.Series([one, other])).tolist()
    index = pd.Index(queries["query"])
    at = index.get_indexer(texts)
    for text, place in zip(texts, at, strict=True):
        if place < 0:
            raise NotFoundError(f'No source knows the query "{text}". Name a query of queries.csv or of your demand.')
    topic = queries["topic"].to_numpy()[at]
    lexicon = Lexicon(language)
    words = lexicon.matrix(queries["query"]).astype(np.float64)
    in_words = _cosine(sparse.csr_matrix(words.multiply(telling(words, known.pages)[None, :])), at)
    on_pages = _cosine(known.pages.sqrt(), at)
    shared, across, within = None, None, 0.0
    if known.results is not None:
        shared = _shared_results(known.results[at[:1]], known.results[at[1:]])
        listed = [known.results[queries["topic"].to_numpy() == one] for one in topic]
        across = _shared_results(*listed)
        within = min(_shared_results(rows, rows) or 0.0 for rows in listed)
    same_topic = topic[0] == topic[1]
    if shared is not None and (shared >= SAME or shared <= OTHER):
        answer = "one page" if shared >= SAME else "two pages"
        because = (
            f"{shared:.0%} of their first results are the same: searchers want {'the same' if shared >= SAME else 'different things'}."
        )
    elif same_topic:
        answer, because = (
            "one page",
            "Words and pages put them into one topic" + (" (no result snapshots of both)." if shared is None else "."),
        )
    elif across is not None and across <= within / 2:
        answer, because = (
            "two pages",
            f"They stand in different topics, which share {across:.0%} of their first results with each other and {within:.0%} within themselves.",
        )
    elif shared is not None or in_words < KNOWN:
        answer, because = "two pages", "They stand in different topics" + (" (no result snapshots of both)." if shared is None else ".")
    else:
        answer, because = "unclear", "They stand in different topics but share most words: result snapshots of both would tell."
    return {
        "one": texts[0],
        "other": texts[1],
        "answer": answer,
        "because": because,
        "topic_of_one": topic[0],
        "topic_of_other": topic[1],
        "shared_results": shared,
        "shared_pages": on_pages,
        "shared_words": in_words,
        "shared_questions": None if snapshots is None else _shared_questions(texts, snapshots),
    }


def _shared_results(one: sparse.csr_matrix, other: sparse.csr_matrix) -> float | None:
    """The mean share of first results that queries of one set have in common with those of the other; None where either has none.

    Args:
        one, other: queries x addresses of their results (0 or 1).
    """
    one, other = (rows[np.diff(rows.indptr) > 0] for rows in (one, other))
    if not one.shape[0] or not other.shape[0]:
        return None
    least = np.minimum(np.diff(one.indptr)[:, None], np.diff(other.indptr)[None, :])
    return float(((one @ other.T).toarray() / least).mean())


def _shared_questions(texts: list[str], snapshots: pd.DataFrame) -> float | None:
    """The share of the questions of two queries that both have; None where one has none."""
    questions = snapshots[(snapshots["kind"] == "question") & snapshots["title"].notna()]
    one, other = (set(plain(questions.loc[questions["query"] == text, "title"]).to_pylist()) for text in texts)
    return len(one & other) / len(one | other) if one and other else None


def _cosine(table: sparse.csr_matrix, at: np.ndarray) -> float:
    unit = unit_rows(sparse.csr_matrix(table[at]))
    return float(unit[0].multiply(unit[1]).sum())
