"""Anchor texts: their kind, whether they are all the same, and whether they contain what the page is searched for."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pandas as pd
from scipy import sparse

from nibbet.core.brand import names_brand
from nibbet.core.peers import share_among_peers
from nibbet.core.wording import links as wording
from nibbet.core.words import Lexicon

ANCHORS = "page side links menus anchors brand_share general address empty own_name keyword top top_share usual_share q_value flag query missing because".split()
#: the kinds of anchors, by precedence
KINDS = ["empty", "address", "brand", "own_name", "general", "keyword"]
#: kinds that do not describe the page
SILENT = ["empty", "address", "general"]
#: pages with the same anchor from which it describes none of them
SEVERAL = 5
#: links of a page, on one side, from which their uniformity is judged
LEAST_LINKS = 10
#: links in the text of other pages, all without describing words, from which a page is flagged
SILENT_LINKS = 3
#: where the name of a page ends within its title
ENDS = r"\s*[|–—·»:(,].*$|\s+-\s.*$"
#: least length of a query word that anchors are searched for
LETTERS = 4
ADDRESS = r"^(?:https?:|www\.)|^[^ @]+\.[a-z]{2,}(?:/[^ ]*)?$"


def anchor_mix(rows: pd.DataFrame, names: pd.DataFrame, queries: pd.DataFrame, brand: Sequence[str], lexicon: Lexicon) -> pd.DataFrame:
    """The anchor texts of the links to each page, internal and external ones separately: ANCHORS with pages by number.

    Args:
        rows: side (inside, outside), page (number), anchor (text or null), links (number of pages that link with it in their text), menus
            (number of pages that link from menus and footers, which repeat the same anchor by nature and are not judged).
        names: title and h1 by page, null where unknown.
        queries: page, query, impressions: queries that the page answers, without the brand; lexicon: of the language of the site.
    Returns:
        One row per page and side: links, menus, anchors (different ones in texts), shares of links by kind, null without links:
            brand_share,
        own_name (its title or heading), general (the same words lead to at least SEVERAL pages), address, empty, keyword; top: the keyword
        anchor
        with most links, top_share: its share of the links. flag: high where that exceeds what is usual on this site (`usual_share`), at 5%
            false discovery; silent where at least SILENT_LINKS links from the site itself all lack describing words, and so do menus.
            query: the most searched query that it answers; missing: its words that no link to the page contains.
    """
    if rows.empty:
        return pd.DataFrame(columns=ANCHORS)
    rows = rows.assign(anchor=rows["anchor"].astype("str").fillna("").str.strip())
    text = rows["anchor"].str.casefold()
    leads = text.map(rows.assign(text=text)[rows["links"] > 0].groupby("text")["page"].nunique()).fillna(0)
    kinds = np.select(
        [
            text == "",
            text.str.contains(ADDRESS, regex=True),
            pd.Series(names_brand(text, brand), index=rows.index),
            _says_name(text, rows["page"], names),
            leads >= SEVERAL,
        ],
        KINDS[:-1],
        KINDS[-1],
    )
    rows = rows.assign(kind=kinds, text=text)
    keys = ["page", "side"]
    speaking = rows["menus"].where(~rows["kind"].isin(SILENT), 0)
    sums = rows.assign(speaking=speaking).groupby(keys)[["links", "menus", "speaking"]].sum()
    shares = rows.pivot_table(index=keys, columns="kind", values="links", aggfunc="sum", fill_value=0).reindex(columns=KINDS, fill_value=0)
    shares = shares.rename(columns={"brand": "brand_share"})
    in_text = rows[rows["links"] > 0]
    sums["anchors"] = in_text.groupby(keys)["text"].nunique().reindex(sums.index, fill_value=0)
    keywords = (
        in_text[in_text["kind"] == "keyword"].groupby([*keys, "text"], as_index=False).agg(own=("links", "sum"), top=("anchor", "first"))
    )
    first = keywords.sort_values([*keys, "own", "text"], ascending=[True, True, False, True]).drop_duplicates(keys).set_index(keys)
    table = sums.join(shares.div(sums["links"].where(sums["links"] > 0), axis=0)).join(first[["own", "top"]]).reset_index()
    count, links = table["own"].fillna(0).to_numpy(float), table["links"].to_numpy(float)
    judged = share_among_peers(count, links, pd.factorize(table["side"])[0], least=LEAST_LINKS)
    silent = (table["side"] == "inside") & (links >= SILENT_LINKS) & (table[SILENT].sum(axis=1) > 1 - 1e-9) & (table["speaking"] == 0)
    flag = np.select([judged["flag"] == "high", silent], ["high", "silent"], "")
    table = table.assign(top_share=count / np.where(links > 0, links, np.nan), usual_share=judged["usual"].where(count > 0).to_numpy(), q_value=judged["q_value"].to_numpy(), flag=flag)  # fmt: skip
    table = table.join(_missing(rows, queries, lexicon), on="page")
    order = np.lexsort((table["page"].to_numpy(), -links, (table["flag"] == "").to_numpy()))
    return table.assign(because=wording.anchors(table)).iloc[order].reset_index(drop=True)[ANCHORS]


def _says_name(text: pd.Series, page: pd.Series, names: pd.DataFrame) -> pd.Series:
    """Whether each lower-case text is the title or heading of its page, or the beginning of it up to the first pause."""
    whole = [page.map(names[column]).astype("str").fillna("").str.strip().str.casefold() for column in ("title", "h1")]
    begun = [name.str.replace(ENDS, "", regex=True) for name in whole]
    return pd.Series(np.logical_or.reduce([text == name for name in [*whole, *begun]]), index=text.index)


def _missing(rows: pd.DataFrame, queries: pd.DataFrame, lexicon: Lexicon) -> pd.DataFrame:
    """By page, its most searched query, and the words of it that no link to the page contains ("" for none)."""
    best = queries.sort_values(["page", "impressions", "query"], ascending=[True, False, True]).drop_duplicates("page")
    best = best[best["page"].isin(rows["page"])].reset_index(drop=True)
    if best.empty:
        return pd.DataFrame({"query": [], "missing": []}, dtype="str")
    word = best["query"].astype("str").str.split().explode()
    word = word[word.str.len() >= LETTERS]
    words, anchor_words = lexicon.same_width(lexicon.matrix(word), lexicon.matrix(rows["anchor"]))
    place = pd.Index(best["page"]).get_indexer(pd.Index(rows["page"]))
    of = sparse.csr_matrix((np.ones((place >= 0).sum()), (place[place >= 0], np.flatnonzero(place >= 0))), shape=(len(best), len(rows)))
    known = sparse.csr_matrix((of @ anchor_words) > 0)[word.index.to_numpy()]
    present = np.asarray(words.multiply(known).sum(axis=1)).ravel() > 0
    texts = word[~present].groupby(level=0).agg(", ".join).reindex(best.index).fillna("")
    return pd.DataFrame({"query": best["query"].astype("str"), "missing": texts.astype("str")}).set_index(best["page"])
