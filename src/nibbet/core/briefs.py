"""Briefs: what an author needs to write a page on a topic."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from scipy import sparse

from nibbet.core.business import business
from nibbet.core.kinship import telling, unit_rows
from nibbet.core.strength import formats
from nibbet.core.words import UNSPACED, Lexicon, pieces, plain

#: largest number of queries, links, titles and other topics in a brief
QUERIES_TOLD, LINKS_TOLD, TITLES_TOLD, OTHERS_TOLD = 25, 6, 12, 6
#: letters from which a word of a title is told: shorter ones say little by themselves
LEAST_LETTERS = 4
#: texts of an existing page
SAID = ["title", "h1", "headings", "description", "words"]
#: cosine of words from which a page is suggested as a source of links, and from which a topic is listed as covered elsewhere
RELATED, BESIDE = 0.2, 0.3


@dataclass(frozen=True)
class Brief:
    """The facts of one topic; every frame may be empty.

    topic: its row of the topic table; queries: query, volume, impressions, position; questions: question, shown (snapshots), share;
    covered: word, share of the ranking titles that contain it; titles: title, shown; kinds: kind of the ranking pages (form of title, and
    whether it is the home page of its site), share of the ranking results; links: page, title, clicks; others: topic, page. existing: the
    texts of the page that serves the topic or is shown for it (title, h1, headings, description, words; null where unknown), or None;
    missing: searched words that none of these contains, by the share of the volume of the topic: word, share. business: part, text of
    [about]. home: the address of the home page, whose host is not shown.
    """

    topic: pd.Series
    queries: pd.DataFrame
    questions: pd.DataFrame
    covered: pd.DataFrame
    titles: pd.DataFrame
    kinds: pd.DataFrame
    links: pd.DataFrame
    others: pd.DataFrame
    snapshots: int
    existing: pd.Series | None
    missing: pd.DataFrame
    business: pd.DataFrame
    home: str = ""


class Neighbours:
    """Pages and answered topics as words, computed once for all briefs."""

    def __init__(self, topics: pd.DataFrame, pages: pd.DataFrame, language: str) -> None:
        """topics: as `core.topics.topic_table`, pages by address; pages: page, clicks, gone, blocked and SAID (the ledger), and leaves:
        whether the page is to go.
        """
        self.language, self.lexicon = language, Lexicon(language)
        self.pages = pages[~pages["gone"] & ~pages["blocked"] & ~pages["leaves"] & pages["title"].notna()].reset_index(drop=True)
        self.texts = pages.set_index("page").reindex(columns=SAID)
        self.others = topics[topics["served"] == "covered"].reset_index(drop=True)
        self._titles, self._labels = self.lexicon.matrix(self.pages["title"]), self.lexicon.matrix(self.others["topic"])

    def related(self, topic: pd.Series, queries: pd.Series) -> tuple[pd.DataFrame, pd.DataFrame]:
        """Pages to link from (strong and related), and nearby topics that another page answers.

        Args: topic: its row of the topic table; queries: its texts.
        """
        query_words = self.lexicon.matrix(queries)
        tables = [table.astype(np.float64) for table in self.lexicon.same_width(query_words, self._titles, self._labels)]
        weight = telling(sparse.csr_matrix(sparse.vstack(tables)), None)[None, :]
        centre, titles, labels = (
            unit_rows(sparse.csr_matrix(table.multiply(weight))) for table in (sparse.csr_matrix(tables[0].sum(axis=0)), *tables[1:])
        )
        near, close = (np.asarray((table @ centre.T).toarray()).ravel() for table in (titles, labels))
        strong = near * np.log1p(self.pages["clicks"].fillna(0).to_numpy(float))
        catches = (
            self.pages["page"] == topic["page"]
        ).to_numpy()  # for a new page, the first page to link from; otherwise it is the page itself
        strong, near = np.where(catches, strong.max(initial=0.0) + 1.0, strong), np.where(catches, topic["proposal"] == "new page", near)
        links = self.pages.assign(strong=strong)[near >= RELATED]
        links = links.sort_values(["strong", "page"], ascending=[False, True]).head(LINKS_TOLD)[["page", "title", "clicks"]]
        owned = self.others.assign(close=close)[(close >= BESIDE) & (self.others["topic"] != topic["topic"]).to_numpy()]
        owned = owned.sort_values(["close", "topic"], ascending=[False, True]).head(OTHERS_TOLD)[["topic", "page"]]
        return links.reset_index(drop=True), owned.reset_index(drop=True)


def make_brief(
    topic: pd.Series,
    placed: pd.DataFrame,
    snapshots: pd.DataFrame | None,
    neighbours: Neighbours,
    about: pd.DataFrame | None = None,
    home: str = "",
) -> Brief:
    """The brief of one topic.

    Args:
        topic: a row of the topic table, pages by address. placed: query, topic, impressions, demand, position.
        snapshots: query, kind (result, question), title, url; or None. about: the content of [about], from `core.about.business`.
    """
    of_topic = placed[placed["topic"] == topic["topic"]]
    queries = of_topic.assign(volume=of_topic["demand"].fillna(of_topic["impressions"])).sort_values(
        ["volume", "query"], ascending=[False, True]
    )
    rows = pd.DataFrame({"query": [], "kind": [], "title": [], "url": []}, dtype="str") if snapshots is None else snapshots
    shown = rows[rows["query"].isin(of_topic["query"]) & rows["title"].notna()]
    count = int(shown["query"].nunique())
    existing = neighbours.texts.loc[topic["page"]] if topic["page"] in neighbours.texts.index else None
    questions, titles = (_counted(shown[shown["kind"] == kind], count) for kind in ("question", "result"))
    return Brief(
        topic,
        queries.head(QUERIES_TOLD)[["query", "volume", "impressions", "position"]],
        questions.rename(columns={"title": "question"}).head(TITLES_TOLD),
        _beyond(titles["title"], titles["shown"], of_topic["query"], neighbours.language),
        titles.head(TITLES_TOLD),
        _kinds(shown[shown["kind"] == "result"]),
        *neighbours.related(topic, of_topic["query"]),
        count,
        existing,
        _missing(queries, existing, neighbours.language),
        business({}) if about is None else about,
        home,
    )


def _missing(queries: pd.DataFrame, existing: pd.Series | None, language: str) -> pd.DataFrame:
    """Words of the queries that no text of the page contains, by volume; none where no text is known."""
    texts = pd.Series([] if existing is None else existing[SAID[:-1]].dropna(), dtype="str")
    return _beyond(queries["query"] if len(texts) else queries["query"].head(0), queries["volume"], texts, language)


def _beyond(texts: pd.Series, weight: pd.Series, known: pd.Series, language: str) -> pd.DataFrame:
    """Words of at least four letters in the texts that no known text contains, or pairs of letters of scripts without blanks: word, share of
    the weight of all texts.
    """
    spelt = pd.Series(plain(texts).to_pylist(), index=texts.index, dtype="str")
    cut = spelt.str.findall(r"\w+").explode().dropna().map(pieces).explode()
    long = cut[(cut.str.len() >= LEAST_LETTERS) | (cut.str.contains(UNSPACED, regex=True) & (cut.str.len() > 1))]
    words = long.rename_axis("text").reset_index(name="word").drop_duplicates()
    shares = (weight.reindex(words["text"]) / max(weight.sum(), 1)).groupby(words["word"].to_numpy()).sum()
    lexicon = Lexicon(language)
    old, stems = np.unique(lexicon.matrix(known).indices), lexicon.matrix(pd.Series(shares.index, dtype="str")).tocoo()
    new = np.zeros(len(shares), dtype=bool)
    new[stems.row[~np.isin(stems.col, old)]] = True
    result = shares[new].rename_axis("word").reset_index(name="share")
    return result.sort_values(["share", "word"], ascending=[False, True], ignore_index=True).head(TITLES_TOLD)


def _kinds(results: pd.DataFrame) -> pd.DataFrame:
    """kind, share: forms of the titles of results, and home pages; in descending order."""
    names = {
        "a question": "titles that ask a question",
        "a count of things": "titles that count things",
        "in two parts": "titles in two parts",
    }
    put = formats(results["title"]).map({**names, "plain": "plain titles"})
    homes = results["url"].astype("str").str.fullmatch(r"[a-z]+://[^/]+/?")
    kinds = pd.concat([put, homes.map({True: "home pages", False: "inner pages"})])
    result = (kinds.value_counts() / max(len(results), 1)).rename_axis("kind").reset_index(name="share")
    return result.sort_values(["share", "kind"], ascending=[False, True], ignore_index=True)


def _counted(rows: pd.DataFrame, snapshots: int) -> pd.DataFrame:
    """title, shown (number of snapshots), share."""
    result = rows.groupby("title", as_index=False).agg(shown=("query", "nunique"))
    result = result.assign(share=result["shown"] / max(snapshots, 1))
    return result.sort_values(["shown", "title"], ascending=[False, True], ignore_index=True)
