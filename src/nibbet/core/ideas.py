"""Ideas held against what the site has: which topic each is, who serves it, and whether two topics need one page or two."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
from scipy import sparse

from nibbet.core.kinship import telling, unit_rows
from nibbet.core.topics import Grouping
from nibbet.core.words import Lexicon, as_typed, plain
from nibbet.errors import NotFoundError
from nibbet.once import threads

IDEAS = "idea topic likeness queries volume volume_kind served page position advice".split()
#: likeness in words (cosine) from which an idea is taken for a topic that is known
KNOWN = 0.5
#: share of first results in common from which two queries want the same, and below which they want different things
SAME, OTHER = 0.4, 0.15


def check_ideas(ideas: pd.Series, known: Grouping, topics: pd.DataFrame, *, language: str) -> pd.DataFrame:
    """For each idea the topic it belongs to and what to do: IDEAS, in the order given.

    Args:
        ideas: texts; topics: as `core.topics.topic_table`, pages by address.
    Returns:
        likeness is 1 where the idea is a query that is known, else the cosine of its words with the nearest one, from KNOWN up; an idea
        like none stands without a topic.
    """
    from sparse_dot_topn import sp_matmul_topn

    queries, texts = known.grouped, as_typed(ideas.fillna(""))
    number = pd.Index(queries["query"]).get_indexer(texts)
    likeness = np.where(number >= 0, 1.0, 0.0)
    unknown = np.flatnonzero(number < 0)
    if len(unknown) and len(queries):
        lexicon = Lexicon(language)
        words = lexicon.matrix(queries["query"]).astype(np.float64)
        weight = telling(words, known.pages)
        asked = lexicon.matrix(texts.iloc[unknown]).astype(np.float64)
        new = asked.shape[1] - len(weight)
        weight = np.concatenate([weight, np.full(max(new, 0), np.log1p(words.shape[0]))])
        words, asked = lexicon.same_width(words, asked)
        asked, words = (unit_rows(sparse.csr_matrix(table.multiply(weight[None, :]))) for table in (asked, words))
        near = sp_matmul_topn(asked, words.T.tocsr(), top_n=1, threshold=KNOWN, n_threads=threads()).tocsr()
        like = np.diff(near.indptr) > 0
        best, value = np.zeros(len(like), dtype=np.int64), np.zeros(len(like))
        best[like], value[like] = near.indices, near.data
        number[unknown[like]], likeness[unknown[like]] = best[like], value[like]
    topic = pd.Series(queries["topic"].to_numpy()[number], dtype="str").where(number >= 0)
    table = pd.DataFrame({"idea": ideas.to_numpy(), "topic": topic, "likeness": np.where(number >= 0, likeness, np.nan)})
    table = table.merge(topics.drop(columns=["label"]), on="topic", how="left", validate="m:1")
    table["advice"] = np.select(
        [
            table["topic"].isna(),
            table["served"] == "covered",
            table["proposal"] == "extend",
            table["proposal"] == "translate",
            table["proposal"] == "restore",
        ],
        [
            "nothing is known of it: ask for its demand first",
            "would compete with the page named: work on that one",
            "extend the page named",
            "translate the page named",
            "restore the page named, which answered it",
        ],
        "a new page: none answers it",
    )
    return table[IDEAS]


def between(one: str, other: str, known: Grouping, snapshots: pd.DataFrame | None, *, language: str) -> dict[str, Any]:
    """Whether two queries need one page or two: one, other, answer (one page, two pages, unclear), because, and the figures behind it.

    snapshots: query, kind (result, question), title; or None. Raises NotFoundError for a query that no source knows.
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
    shared = None
    if known.results is not None:
        rows = [set(known.results[place].indices.tolist()) for place in at]
        shared = len(rows[0] & rows[1]) / max(1, min(len(rows[0]), len(rows[1]))) if rows[0] and rows[1] else None
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


def _shared_questions(texts: list[str], snapshots: pd.DataFrame) -> float | None:
    """The share of the questions shown with either of two queries that are shown with both; None where one has none."""
    asked = snapshots[(snapshots["kind"] == "question") & snapshots["title"].notna()]
    one, other = (set(plain(asked.loc[asked["query"] == text, "title"]).to_pylist()) for text in texts)
    return len(one & other) / len(one | other) if one and other else None


def _cosine(table: sparse.csr_matrix, at: np.ndarray) -> float:
    unit = unit_rows(sparse.csr_matrix(table[at]))
    return float(unit[0].multiply(unit[1]).sum())
