"""What an author needs to start a page on a topic: asked, answered elsewhere, linked, and left to others."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from scipy import sparse

from nibbet.core.business import business
from nibbet.core.kinship import telling, unit_rows
from nibbet.core.strength import formats
from nibbet.core.words import Lexicon, plain

#: how many of each are told
QUERIES_TOLD, LINKS_TOLD, TITLES_TOLD, OTHERS_TOLD = 25, 6, 12, 6
#: what is known of what a page says
SAID = ["title", "h1", "headings", "description", "words"]
#: how alike (cosine of words) a page must be to link from, and a topic to be named as somebody else's
RELATED, BESIDE = 0.2, 0.3


@dataclass(frozen=True)
class Brief:
    """The facts of one topic; every frame may be empty.

    topic: its row of the topic table; queries: query, volume, impressions, position; questions: question, shown (snapshots), share;
    covered: word, share of the ranking titles that have it; titles: title, shown; kinds: what kind of page ranks (how its title is put, and
    whether it is the home page of its site), share of the ranking results; links: page, title, clicks; others: topic, page.
    existing: what the page that serves or catches it already says (title, h1, headings, description, words; null where not known), or None;
    missing: words asked that stand in none of these, by the share of the topic's volume that asks for them: word, share. business: part, text of what [about] says. home: the address of
    the site's home, whose host need not be named.
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
    """Pages and answered topics as words, made once for all briefs."""

    def __init__(self, topics: pd.DataFrame, pages: pd.DataFrame, language: str) -> None:
        """topics: as `core.topics.topic_table`, pages by address; pages: page, clicks, gone, blocked and SAID (the ledger), and leaves: whether
        the page is to go."""
        self.language, self.lexicon = language, Lexicon(language)
        self.pages = pages[~pages["gone"] & ~pages["blocked"] & ~pages["leaves"] & pages["title"].notna()].reset_index(drop=True)
        self.texts = pages.set_index("page").reindex(columns=SAID)
        self.others = topics[topics["served"] == "covered"].reset_index(drop=True)
        self._titles, self._labels = self.lexicon.matrix(self.pages["title"]), self.lexicon.matrix(self.others["topic"])

    def beside(self, topic: pd.Series, queries: pd.Series) -> tuple[pd.DataFrame, pd.DataFrame]:
        """Pages to link from (strong and related), and topics near by that another page answers.

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
        catches = (self.pages["page"] == topic["page"]).to_numpy()  # of a new page the first to link from; else it is the page itself
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
        snapshots: query, kind (result, question), title, url; or None. about: what [about] says, as `core.about.business` makes it.
    """
    own = placed[placed["topic"] == topic["topic"]]
    queries = own.assign(volume=own["demand"].fillna(own["impressions"])).sort_values(["volume", "query"], ascending=[False, True])
    rows = pd.DataFrame({"query": [], "kind": [], "title": [], "url": []}, dtype="str") if snapshots is None else snapshots
    shown = rows[rows["query"].isin(own["query"]) & rows["title"].notna()]
    count = int(shown["query"].nunique())
    existing = neighbours.texts.loc[topic["page"]] if topic["page"] in neighbours.texts.index else None
    questions, titles = (_counted(shown[shown["kind"] == kind], count) for kind in ("question", "result"))
    return Brief(
        topic,
        queries.head(QUERIES_TOLD)[["query", "volume", "impressions", "position"]],
        questions.rename(columns={"title": "question"}).head(TITLES_TOLD),
        _beyond(titles["title"], titles["shown"], own["query"], neighbours.language),
        titles.head(TITLES_TOLD),
        _kinds(shown[shown["kind"] == "result"]),
        *neighbours.beside(topic, own["query"]),
        count,
        existing,
        _missing(queries, existing, neighbours.language),
        business({}) if about is None else about,
        home,
    )


def _missing(queries: pd.DataFrame, existing: pd.Series | None, language: str) -> pd.DataFrame:
    """Words of the queries that stand in none of the page's texts, by volume; none where no text is known."""
    texts = pd.Series([] if existing is None else existing[SAID[:-1]].dropna(), dtype="str")
    return _beyond(queries["query"] if len(texts) else queries["query"].head(0), queries["volume"], texts, language)


def _beyond(texts: pd.Series, weight: pd.Series, known: pd.Series, language: str) -> pd.DataFrame:
    """Words of four letters and more in the texts that stand in none of the known ones: word, share of the weight of all texts."""
    spelt = pd.Series(plain(texts).to_pylist(), index=texts.index, dtype="str")
    words = spelt.str.findall(r"\w{4,}").explode().dropna().rename_axis("text").reset_index(name="word").drop_duplicates()
    shares = (weight.reindex(words["text"]) / max(weight.sum(), 1)).groupby(words["word"].to_numpy()).sum()
    lexicon = Lexicon(language)
    old, stems = np.unique(lexicon.matrix(known).indices), lexicon.matrix(pd.Series(shares.index, dtype="str")).tocoo()
    new = np.zeros(len(shares), dtype=bool)
    new[stems.row[~np.isin(stems.col, old)]] = True
    result = shares[new].rename_axis("word").reset_index(name="share")
    return result.sort_values(["share", "word"], ascending=[False, True], ignore_index=True).head(TITLES_TOLD)


def _kinds(results: pd.DataFrame) -> pd.DataFrame:
    """kind, share: how the titles of results are put, and which are home pages; most first."""
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
    """title, shown (in how many snapshots), share."""
    result = rows.groupby("title", as_index=False).agg(shown=("query", "nunique"))
    result = result.assign(share=result["shown"] / max(snapshots, 1))
    return result.sort_values(["shown", "title"], ascending=[False, True], ignore_index=True)
