"""What an author needs to start a page on a topic: asked, answered elsewhere, linked, and left to others."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from scipy import sparse

from nibbet.core.topics import telling, unit_rows
from nibbet.core.words import Lexicon, plain

#: how many of each are told
QUERIES_TOLD, LINKS_TOLD, TITLES_TOLD, OTHERS_TOLD = 25, 6, 12, 6
#: how alike (cosine of words) a page must be to link from, and a topic to be named as somebody else's
RELATED, BESIDE = 0.2, 0.3


@dataclass(frozen=True)
class Brief:
    """The facts of one topic; every frame may be empty.

    topic: its row of the topic table; queries: query, volume, impressions, position; questions: question, shown (snapshots), share;
    covered: word, share of the ranking titles that have it; titles: title, shown; links: page, title, clicks; others: topic, page.
    """

    topic: pd.Series
    queries: pd.DataFrame
    questions: pd.DataFrame
    covered: pd.DataFrame
    titles: pd.DataFrame
    links: pd.DataFrame
    others: pd.DataFrame
    snapshots: int


def make_brief(
    topic: pd.Series, topics: pd.DataFrame, asked: pd.DataFrame, pages: pd.DataFrame, snapshots: pd.DataFrame | None, *, language: str
) -> Brief:
    """The brief of one topic.

    Args:
        topic: a row of `topics` (as `core.topics.topic_table`, pages by address). asked: query, topic, impressions, demand, position.
        pages: page, path, title, clicks, gone, blocked (the ledger). snapshots: query, kind (result, question), title; or None.
    """
    own = asked[asked["topic"] == topic["topic"]]
    queries = own.assign(volume=own["demand"].fillna(own["impressions"])).sort_values(["volume", "query"], ascending=[False, True])
    shown = snapshots[snapshots["query"].isin(own["query"]) & snapshots["title"].notna()] if snapshots is not None else None
    empty = pd.DataFrame({"title": pd.Series(dtype="str"), "shown": pd.Series(dtype="int64"), "share": pd.Series(dtype="float64")})
    count = int(shown["query"].nunique()) if shown is not None else 0
    told = {kind: _counted(shown[shown["kind"] == kind], count) if shown is not None else empty for kind in ("question", "result")}
    return Brief(
        topic,
        queries.head(QUERIES_TOLD)[["query", "volume", "impressions", "position"]],
        told["question"].rename(columns={"title": "question"}).head(TITLES_TOLD),
        _words_of(told["result"], own["query"], language),
        told["result"].head(TITLES_TOLD),
        *_beside(topic, own, topics, pages, language),
        count,
    )


def _counted(rows: pd.DataFrame, snapshots: int) -> pd.DataFrame:
    """title, shown (in how many snapshots), share."""
    found = rows.groupby("title", as_index=False).agg(shown=("query", "nunique"))
    found = found.assign(share=found["shown"] / max(snapshots, 1))
    return found.sort_values(["shown", "title"], ascending=[False, True], ignore_index=True)


def _words_of(titles: pd.DataFrame, queries: pd.Series, language: str) -> pd.DataFrame:
    """Words of the ranking titles beyond those of the queries: word, share of titles."""
    if titles.empty:
        return pd.DataFrame({"word": pd.Series(dtype="str"), "share": pd.Series(dtype="float64")})
    lexicon = Lexicon(language)
    asked = np.unique(lexicon.matrix(queries).indices)
    parts = pd.Series(plain(titles["title"]).to_pylist()).str.findall(r"\w{4,}").explode().dropna().drop_duplicates()
    stems = lexicon.matrix(parts).tocoo()
    new = np.zeros(len(parts), dtype=bool)
    new[stems.row[~np.isin(stems.col, asked)]] = True
    words = parts[new]
    text = pd.Series(plain(titles["title"]).to_pylist())
    share = [float(np.average(text.str.contains(rf"\b{word}\b", regex=True), weights=titles["shown"])) for word in words]
    found = pd.DataFrame({"word": words.to_numpy(), "share": share})
    return found.sort_values(["share", "word"], ascending=[False, True], ignore_index=True).head(TITLES_TOLD)


def _beside(
    topic: pd.Series, own: pd.DataFrame, topics: pd.DataFrame, pages: pd.DataFrame, language: str
) -> tuple[pd.DataFrame, pd.DataFrame]:
    """Pages to link from (strong and related), and topics near by that another page answers."""
    lexicon = Lexicon(language)
    live = pages[~pages["gone"] & ~pages["blocked"] & pages["title"].notna()].reset_index(drop=True)
    others = topics[(topics["topic"] != topic["topic"]) & (topics["served"] == "covered")].reset_index(drop=True)
    asked, titles, labels = (lexicon.matrix(texts).astype(np.float64) for texts in (own["query"], live["title"], others["topic"]))
    asked, titles, labels = lexicon.same_width(asked, titles, labels)
    every = sparse.csr_matrix(sparse.vstack([asked, titles, labels]))
    weight = telling(every, None)[None, :]
    centre = unit_rows(sparse.csr_matrix(sparse.csr_matrix(asked.sum(axis=0)).multiply(weight)))
    near = (unit_rows(sparse.csr_matrix(titles.multiply(weight))) @ centre.T).toarray().ravel()
    close = (unit_rows(sparse.csr_matrix(labels.multiply(weight))) @ centre.T).toarray().ravel()
    strong = near * np.log1p(live["clicks"].fillna(0).to_numpy(float))
    catches = (live["page"] == topic["page"]).to_numpy()  # of a new page the first to link from, of an extended one itself
    strong, near = np.where(catches, strong.max(initial=0.0) + 1.0, strong), np.where(catches, topic["proposal"] != "extend", near)
    links = live.assign(strong=strong)[near >= RELATED]
    links = links.sort_values(["strong", "page"], ascending=[False, True]).head(LINKS_TOLD)[["page", "title", "clicks"]]
    owned = others.assign(close=close)[close >= BESIDE].sort_values(["close", "topic"], ascending=[False, True])
    return links.reset_index(drop=True), owned.head(OTHERS_TOLD)[["topic", "page"]].reset_index(drop=True)
