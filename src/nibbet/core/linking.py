"""Internal links: those that lead to faults, and those that are missing."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core.entries import places
from nibbet.core.wording import links as wording
from nibbet.once import threads

Ints = NDArray[np.int64]

BROKEN = "source target status anchor place links to clicks because".split()
FLOWS = "section_from section_to links flow received demand_share".split()
SUGGESTED = "to from anchor strength readers links shown gain because".split()
#: cosine of distinctive words from which a link between two pages helps a reader: the default for sites with few links
RELATED = 0.12
#: the same for pages of two sections, where a shared word often means something else
RELATED_ACROSS = 0.35
#: existing links needed to estimate it, and quantile of their similarity; links to more than this share of all pages are navigation
OWN_LINKS, LOOSEST, NAVIGATION = 50, 0.25, 0.1
#: pages compared with each weak one
NEIGHBOURS = 40
#: inbound links up to which a page is always weakly linked, and share of the usual number of similarly shown pages below which it is
FEW, SHORT = 1, 0.5
#: impressions in the long window from which a page can gain by links
SHOWN = 50
#: most links proposed from one page, and to one page
MOST_GIVEN, MOST_GOT = 3, 3


def broken_links(rows: pd.DataFrame, pages: pd.DataFrame, ends: pd.Series, covering: pd.Series) -> pd.DataFrame:
    """Every link of the site that leads to a fault or a detour: BROKEN, those on the pages with most clicks first.

    Args:
        rows: source_id, target_id (page numbers; null on other hosts), target (address as linked), status (null without an answer, for
            which `silent` has the reason), anchor, place (part of the page, null where unknown), redirect_to (its target, by the links),
            links (number of such links there).
        pages: page, clicks_long, gone, blocked, by number; ends: per page, the address at which its redirects end; covering: per page that
            fails, the number of the page that covers it, or of its section.
    Returns:
        to: the address to link to instead; null where there is none.
    """
    address, alive = pages["page"], ~(pages["gone"] | pages["blocked"])
    target, status = rows["target_id"], rows["status"].astype("Int64")
    moved, outside = status.between(300, 399).fillna(False).astype(bool), target.isna()
    target_address = target.map(address)
    stays = target.map(alive).eq(True) & (target_address != rows["target"])  # the redirect is merged into its target page
    end = target.map(ends)
    mend = target_address.where(stays, end).where(moved, target.map(covering).map(address))
    mend = mend.where(~outside | ~moved, rows["redirect_to"])
    shown = rows["target"].str.replace(r"^https?://[^/]+", "", regex=True).where(~outside, rows["target"])
    result: pd.DataFrame = pd.DataFrame(
        {
            "source": rows["source_id"].map(address),
            "target": rows["target"],
            "status": status,
            "anchor": rows["anchor"],
            "place": rows["place"],
            "links": rows["links"],
            "to": mend,
            "clicks": rows["source_id"].map(pages["clicks_long"]).fillna(0).astype("int64"),
            "because": wording.broken(shown, rows, moved, mend),
        }
    )
    return result.sort_values(["clicks", "source", "target"], ascending=[False, True, True], ignore_index=True)[BROKEN]


def ranks(source: Ints, target: Ints, count: int, entries: NDArray[np.float64] | None = None) -> NDArray[np.float64]:
    """The expected share of random readers on each page times the number of pages (1 = the mean): PageRank over internal links.

    Args:
        entries: relative frequency of entries on each page; uniform if omitted.

    Page, Brin, Motwani & Winograd (1999, Stanford InfoLab 1999-66), by scikit-network.
    """
    if not len(source):
        return np.ones(count)
    from sknetwork.ranking import PageRank

    graph = sparse.csr_matrix((np.ones(len(source), dtype=np.float32), (source, target)), shape=(count, count))
    graph.data[:] = 1.0
    rank: NDArray[np.float64] = np.asarray(PageRank().fit_predict(graph, weights=entries), dtype=np.float64) * count
    return rank


def link_flows(pages: pd.DataFrame, links: tuple[Ints, Ints]) -> pd.DataFrame:
    """Where the links of each section lead: FLOWS, one row per section and section linked to, by flow.

    Args:
        pages: section, impressions_long, backlinks, by page number; links: source and target of every internal link, once.
    Returns:
        links; flow: the share of all readers passed on by links in the text (see `ranks`; a page divides its readers equally among its
        links) that goes this way; received: the share of all readers that the section linked to receives; demand_share: its share of the
        impressions of the long window. Links to more than NAVIGATION of all pages are on every page and are left out.
    """
    size, (source, target) = len(pages), links
    if not len(source):
        return pd.DataFrame(columns=FLOWS)
    outside = pages["backlinks"].fillna(0).to_numpy(float) if "backlinks" in pages else np.zeros(size)
    readers = ranks(source, target, size, 1.0 + outside) / np.maximum(np.bincount(source, minlength=size), 1)
    chosen = np.bincount(target, minlength=size)[target] <= NAVIGATION * size
    source, target = source[chosen], target[chosen]
    section = pages["section"].to_numpy(dtype=object)
    rows = pd.DataFrame({"section_from": section[source], "section_to": section[target], "flow": readers[source]})
    table = rows.groupby(["section_from", "section_to"], as_index=False).agg(links=("flow", "size"), flow=("flow", "sum"))
    table["flow"] /= max(float(table["flow"].sum()), 1e-12)
    shown = pages["impressions_long"].fillna(0).astype(float).groupby(pages["section"]).sum()
    table["received"] = table.groupby("section_to")["flow"].transform("sum")
    table["demand_share"] = table["section_to"].map(shown / max(float(shown.sum()), 1.0))
    order = table.sort_values(["flow", "section_from", "section_to"], ascending=[False, True, True], ignore_index=True)
    return order[FLOWS]


def weak_pages(pages: pd.DataFrame, inlinks: pd.Series) -> pd.Series:
    """Which living pages have too few internal links: at most FEW, or fewer than SHORT times the usual number of pages with similar
    impressions.

    Args:
        pages: path, impressions_long, gone, blocked, leaves (bool); inlinks: links from other pages of the site.
    """
    open_ = ~pages["gone"] & ~pages["blocked"] & ~pages["leaves"] & pages["path"].ne("/")
    shown = pages["impressions_long"].fillna(0).astype(float)
    band = np.floor(np.log2(shown.clip(lower=1)))
    usual = inlinks.where(open_).groupby(band).transform("median")
    return open_ & (shown >= SHOWN) & ((inlinks <= FEW) | (inlinks < SHORT * usual))


def related(words: sparse.csr_matrix, links: tuple[Ints, Ints], inlinks: pd.Series, section: pd.Series) -> tuple[float, float]:
    """The similarity from which this site links two pages, within a section and between two: the quantile LOOSEST of its existing links,
    without navigation.
    """
    in_text = inlinks.to_numpy()[links[1]] <= NAVIGATION * len(inlinks)
    source, target = links[0][in_text], links[1][in_text]
    code = pd.factorize(section)[0]
    within = code[source] == code[target]
    parts = []
    for some, usual in ((within, RELATED), (~within, RELATED_ACROSS)):
        at = np.flatnonzero(some)[:: max(1, int(some.sum()) // 100_000)]
        alike = np.asarray(words[source[at]].multiply(words[target[at]]).sum(axis=1)).ravel()
        parts.append(usual if len(at) < OWN_LINKS else float(np.clip(np.quantile(alike, LOOSEST), usual / 2, 4 * RELATED)))
    return parts[0], max(parts)


def link_suggestions(
    pages: pd.DataFrame,
    inlinks: pd.Series,
    words: sparse.csr_matrix,
    links: tuple[Ints, Ints],
    anchor: pd.Series,
    gain: pd.Series,
) -> pd.DataFrame:
    """Missing links: SUGGESTED with pages by number, by possible gain.

    Args:
        pages: as for `weak_pages`, with section and backlinks; words: pages x distinctive words, rows of length 1; links: source and target
            of every internal link, once; anchor: the words for which each page is most searched; gain: clicks a month within its reach.
    Returns:
        For each weak page, related pages with most readers that are living, stay and do not link to it yet; at most MOST_GOT links to a
        page and MOST_GIVEN from one.
    """
    weak = np.flatnonzero(weak_pages(pages, inlinks).to_numpy())
    gives = (
        ~pages["gone"] & ~pages["blocked"] & ~pages["leaves"] & pages["path"].ne("/")
    ).to_numpy()  # links on a home page are navigation
    if not len(weak) or words.shape[1] == 0:
        return pd.DataFrame(columns=SUGGESTED)
    from sparse_dot_topn import sp_matmul_topn

    least, across = related(words, links, inlinks, pages["section"])
    near = sp_matmul_topn(words[weak], words.T.tocsr(), top_n=NEIGHBOURS, threshold=least, n_threads=threads()).tocsr()
    row, giver = places(near)
    taker, likeness = weak[row], near.data.astype(float)
    size = len(pages)
    known = np.unique(links[0] * size + links[1])
    section = pd.factorize(pages["section"])[0]
    fresh = (
        (giver != taker)
        & (likeness >= np.where(section[giver] == section[taker], least, across))
        & gives[giver]
        & ~np.isin(giver.astype(np.int64) * size + taker, known)
    )
    outside = pages["backlinks"].fillna(0).to_numpy(float) if "backlinks" in pages else np.zeros(size)
    readers = ranks(*links, size, 1.0 + outside)  # visitors from other sites enter at linked pages
    table = pd.DataFrame({"to": taker, "from": giver, "strength": likeness})[fresh]
    table["readers"] = readers[table["from"].to_numpy()]
    table["links"] = inlinks.to_numpy()[table["to"].to_numpy()]
    table["shown"] = pages["impressions_long"].fillna(0).to_numpy()[table["to"].to_numpy()]
    table["gain"] = gain.reindex(pages.index).fillna(0.0).to_numpy()[table["to"].to_numpy()]
    table["anchor"] = anchor.reindex(pages.index).to_numpy()[table["to"].to_numpy()]
    table["score"] = table["strength"] * np.log1p(table["readers"])
    order = ["gain", "shown", "to", "score", "from"]
    table = table.sort_values(order, ascending=[False, False, True, False, True], ignore_index=True)
    table = table[table.groupby("from").cumcount() < MOST_GIVEN]
    table = table[table.groupby("to").cumcount() < MOST_GOT].reset_index(drop=True)
    table["because"] = wording.suggested(table)
    result: pd.DataFrame = table[SUGGESTED]
    return result
