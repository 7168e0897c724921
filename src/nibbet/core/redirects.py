"""The redirect map: targets for addresses that go, without chains or loops."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core.brand import brand_columns
from nibbet.core.entries import places
from nibbet.core.join.address import INDEX_FILE
from nibbet.core.querymap import page_words
from nibbet.core.sections import language_code, region_of
from nibbet.core.sentences import named
from nibbet.core.words import Lexicon, rarity

Rows = NDArray[np.integer[Any]]

#: share of the distinctive words of a page, and of its queries, that another page must contain or answer to replace it: with fewer words it
#: covers the subject without the question, as a sister page does
COVERS, ANSWERS = 0.8, 0.6
#: similarity of titles that a page found by queries must also have: sister pages are shown for them once the page is gone
SAYS_TOO = 0.4
#: pages near a leaving one whose titles show which words are its subject
BESIDE = 6
#: share of the subject of a section that may lie outside that of a page redirected to it
BEYOND = 0.35
#: living pages with the same last path segment from which it is no name, such as of print versions
NAMESAKES = 20
ROWS_AT_ONCE = 20_000


class Tongues:
    """The language of each page: by its first folder where the site has several for languages or regions, and by the crawl.

    Args of the constructor: pages: path, language and gone where known (an address without `gone` is one that goes).
    """

    def __init__(self, pages: pd.DataFrame) -> None:
        region = region_of(pages["path"])
        region = region if len(set(region) - {""}) > 1 else pd.Series("", index=pages.index)
        self._region, unknown = region.to_numpy(), np.full(len(pages), -1)
        self._spoken = pd.factorize(language_code(pages["language"]))[0] if "language" in pages else unknown
        gone = pages["gone"].fillna(True).to_numpy(bool) if "gone" in pages else np.ones(len(pages), dtype=bool)
        self._moved = gone & (self._region == "")

    def agree(self, leaving: Rows, staying: Rows) -> NDArray[np.bool_]:
        """Whether each staying page may replace a leaving one: not of another language, nor of another folder for a language, unless the leaving
        address is from a time without such folders. Both are row numbers of the pages.
        """
        one, other = self._spoken[leaving], self._spoken[staying]
        same: NDArray[np.bool_] = (one < 0) | (other < 0) | (one == other)
        result: NDArray[np.bool_] = same & (self._moved[leaving] | (self._region[leaving] == self._region[staying]))
        return result


def covering_page(
    pages: pd.DataFrame,
    leaving: np.ndarray,
    staying: np.ndarray,
    *,
    brand: list[str],
    language: str = "english",
    words: tuple[Lexicon, sparse.csr_matrix] | None = None,
) -> pd.Series:
    """For each leaving page the staying page that best covers its subject; null where none contains COVERS of its distinctive words,
    counted singly and with those of a name as one.

    Args:
        pages: title, h1, path, clicks_long (and headings, description where known), one row per page. The subject of a page is its main
            heading, else its title, else its path; of pages that cover it equally, the one
            with the fewest other words is taken, then the one with more clicks; none of another language (`Tongues`).
        leaving, staying: row numbers in `pages`.
        words: a lexicon and the result of `page_words` for these pages with it, if available.
    """
    lexicon, texts = words or (Lexicon(language), None)
    tongues = Tongues(pages)
    subject = lexicon.matrix(subject_of(pages))
    known_brand = brand_columns(lexicon, brand)
    texts = page_words(pages, lexicon) if texts is None else texts
    subject, texts = lexicon.same_width(subject, texts)
    weight = rarity(texts)
    weight[known_brand] = 0.0
    wanted = subject[leaving].multiply(weight[None, :]).tocsr()
    as_names = wanted.multiply(1.0 / _words_together(texts)[None, :]).tocsr()
    if not len(leaving) or not len(staying):
        return pd.Series(np.nan, index=leaving)
    there = texts[staying].tocsr()
    theirs = subject[staying].multiply(weight[None, :]).tocsr()
    about = np.maximum(np.asarray(theirs.sum(axis=1)).ravel(), 1e-9)
    visited = np.log1p(pages["clicks_long"].to_numpy(dtype=float)[staying])
    visited = visited / max(visited.max(), 1.0)
    telling = _telling_words(wanted, np.bincount(there.indices, minlength=there.shape[1]))
    carries = there.T.tocsr()
    carries.data[:] = 1.0
    best = np.full(len(leaving), -1, dtype=np.int64)
    for at in range(0, len(leaving), ROWS_AT_ONCE):
        near = (telling[at : at + ROWS_AT_ONCE] @ carries).tocoo()
        alike = tongues.agree(leaving[near.row + at], staying[near.col])
        one, other = near.row[alike] + at, near.col[alike]
        share = np.minimum(_part_of(wanted[one], there[other]), _part_of(as_names[one], there[other]))
        beyond = 1.0 - np.asarray(subject[one].multiply(theirs[other]).sum(axis=1)).ravel() / about[other]
        score = share - 0.2 * beyond + 0.02 * visited[other]
        good = np.flatnonzero(share >= COVERS)
        order = good[np.lexsort([other[good], -score[good], one[good]])]
        first = order[np.unique(one[order], return_index=True)[1]]
        best[one[first]] = other[first]
    return pd.Series(np.where(best >= 0, staying[best], np.nan), index=leaving)


def page_name(path: pd.Series) -> pd.Series:
    """The last segment of each path, without its extension or index file; empty where it has no letter, such as a number."""
    name = _without_ending(path).str.extract(r"([^/]*)/*$", expand=False).str.lower()
    return name.where(name.str.contains(r"[^\W\d_]", regex=True), "")


def words_of_address(path: pd.Series) -> pd.Series:
    """The words of each address: its folders and its name, without extensions, index files and numbers."""
    return _without_ending(path).str.replace(r"(?<=/)\d+(?=/|$)", "", regex=True)


def _without_ending(path: pd.Series) -> pd.Series:
    """Addresses without parameters, index file and file extension."""
    plain = path.str.replace(r"[?#].*$", "", regex=True).str.replace(INDEX_FILE, "", regex=True)
    return plain.str.replace(r"\.[A-Za-z]{2,5}$", "", regex=True)


def says_no_less(texts: sparse.csr_matrix, addresses: sparse.csr_matrix, asking: Rows, target: Rows) -> NDArray[np.bool_]:
    """Whether each target contains every word of the subject that the address of any living page has; other words are former folders.

    Args:
        texts: texts x words; addresses: addresses of living pages x words; asking, target: row numbers in `texts`, one each.
    """
    known = np.flatnonzero(addresses.getnnz(axis=0))
    wanted, there = (texts[rows][:, known] > 0 for rows in (asking, target))
    result: NDArray[np.bool_] = wanted.getnnz(axis=1) == wanted.multiply(there).getnnz(axis=1)
    return result


def page_of_same_name(path: pd.Series, staying: pd.Series) -> pd.Series:
    """For each address the staying page with the same name, as after a move of folders or a change of extensions; null without one.

    Args:
        path: addresses that fail; staying: paths of living pages by page number. Of several, the one with most folders in common; null for
            a tie.
    """
    gone, alive = (pd.DataFrame({"name": page_name(one), "path": one}).rename_axis("number").reset_index() for one in (path, staying))
    alive = alive[alive["name"].ne("") & (alive.groupby("name")["name"].transform("size") <= NAMESAKES)]
    both = gone.merge(alive, on="name", suffixes=("", "_alive"))
    ends, number = pd.concat([both["path"], both["path_alive"]], ignore_index=True), np.arange(len(both))
    both = both[Tongues(ends.to_frame("path")).agree(number, number + len(both))]
    folders = zip(both["path"].str.split("/"), both["path_alive"].str.split("/"), strict=True)
    both["common"] = [len(set(one) & set(other)) for one, other in folders]  # few pages share a name
    both = both[both["common"] == both.groupby("number")["common"].transform("max")]
    only = both[~both.duplicated("number", keep=False)].set_index("number")["number_alive"]
    return only.reindex(path.index).astype("float64")


def answering_page(pairs: pd.DataFrame, leaving: np.ndarray, staying: np.ndarray, answers: float) -> pd.DataFrame:
    """For each leaving page the staying pages that answer its queries: page (leaving), other, share (0 to 1, by actual and
    expected clicks in both windows), and weight, those clicks; in descending order. A page without one has a row without other.

    Args:
        pairs: page, query, brand, answer, clicks, expected_clicks, and both with `_reference`; answers: threshold of answer from which a
            page answers a query.
    """
    drawn = ["clicks", "expected_clicks", "clicks_reference", "expected_clicks_reference"]
    rows = pairs[pairs["page"].isin(leaving) & ~pairs["brand"]]
    rows = pd.DataFrame({"page": rows["page"], "query": rows["query"], "weight": rows[drawn].fillna(0).sum(axis=1)})
    known = pairs["page"].isin(staying) & pairs["query"].isin(rows["query"].unique()) & (pairs["answer"] >= answers)
    able = pairs.loc[known, ["page", "query"]].rename(columns={"page": "other"})
    weight = rows.groupby("page")["weight"].sum()
    sums = rows.merge(able, on="query").groupby(["page", "other"])["weight"].sum().reset_index(name="answered")
    sums = sums.sort_values(["page", "answered", "other"], ascending=[True, False, True])
    result = weight.rename("weight").reset_index().merge(sums, on="page", how="left")
    return result.assign(share=(result["answered"] / result["weight"].where(result["weight"] > 0)).fillna(0.0)).drop(columns="answered")


def section_page(
    pages: pd.DataFrame, leaving: np.ndarray, hubs: np.ndarray, *, brand: list[str], words: tuple[Lexicon, sparse.csr_matrix]
) -> pd.Series:
    """For each leaving page the hub it belongs to: the nearest ancestor by address, else one whose own subject is part of that of the
    page; null without one. The home page is no section.

    Args:
        pages: title, h1, path; leaving, hubs: row numbers; words: a lexicon and texts x words, as in `covering_page`.
    """
    if not len(leaving) or not len(hubs):
        return pd.Series(np.nan, index=leaving)
    path = pages["path"].str.rstrip("/")
    known = pd.Series(hubs, index=path.iloc[hubs].to_numpy())
    known = known[(known.index != "") & ~known.index.duplicated()]
    above, result = path.iloc[leaving], pd.Series(np.nan, index=leaving)
    for _ in range(int(path.str.count("/").max())):
        above = above.str.replace(r"/[^/]*$", "", regex=True)
        result = result.where(result.notna(), pd.Series(above.map(known).to_numpy(), index=leaving))
    lost = np.flatnonzero(result.isna().to_numpy())
    hubs = hubs[path.iloc[hubs].to_numpy() != ""]
    if not len(lost) or not len(hubs):
        return result
    lexicon, texts = words
    subject, short = lexicon.matrix(subject_of(pages)), lexicon.matrix(pages["path"])  # a title contains more than the subject
    subject, short, texts = lexicon.same_width(subject, short, texts)
    weight = rarity(texts)
    weight[brand_columns(lexicon, brand)] = 0.0
    near = []
    for words_of in (subject, short):
        theirs = sparse.csr_matrix(words_of[hubs].multiply(weight[None, :]))
        about = np.maximum(np.asarray(theirs.sum(axis=1)).ravel(), 1e-9)
        common = (words_of[leaving[lost]] @ theirs.T).tocoo()
        good = common.data >= (1 - BEYOND) * about[common.col]
        near.append((common.row[good], common.col[good], common.data[good]))
    row, hub, share = (np.concatenate(parts) for parts in zip(*near, strict=True))
    order = np.lexsort([hubs[hub], -share, row])
    first = order[np.unique(row[order], return_index=True)[1]]
    result.iloc[lost[row[first]]] = hubs[hub[first]]
    return result


def _part_of(wanted: sparse.csr_matrix, there: sparse.csr_matrix) -> NDArray[np.float64]:
    """The share of the weights in each row of `wanted` whose words the same row of `there` has."""
    share: NDArray[np.float64] = np.asarray(wanted.multiply(there).sum(axis=1)).ravel() / np.maximum(
        np.asarray(wanted.sum(axis=1)).ravel(), 1e-9
    )
    return share


def _words_together(texts: sparse.csr_matrix) -> NDArray[np.int64]:
    """How many words occur in exactly the same texts as each word, as those of a name do: together they are one subject, or they would
    outweigh the question about it. 1 for words of a single text.

    Args:
        texts: texts x words.
    """
    occurs = sparse.csr_matrix((np.ones(texts.nnz, dtype=np.uint64), texts.indices, texts.indptr), shape=texts.shape)
    number = np.random.default_rng(0).integers(1, 2**63, texts.shape[0], dtype=np.uint64)
    _, group, count = np.unique(occurs.T @ number, return_inverse=True, return_counts=True)
    together: NDArray[np.int64] = np.where(np.bincount(texts.indices, minlength=texts.shape[1]) > 1, count[group], 1)
    return together


def _telling_words(words: sparse.csr_matrix, known: np.ndarray) -> sparse.csr_matrix:
    """For each row its rarest words, as few as together exceed what a covering page may lack: every such page contains one of them.

    Args:
        known: number of texts with each word.
    Source: prefix filtering (Chaudhuri, Ganti, Kaushik 2006, ICDE).
    """
    row, _ = places(words)
    order = np.lexsort([words.indices, known[words.indices], row])
    weight, row = words.data[order], row[order]
    before = np.cumsum(weight) - weight
    before = before - before[np.searchsorted(row, row)]
    whole = np.asarray(words.sum(axis=1)).ravel()
    keep = (before <= (1 - COVERS) * whole[row] + 1e-9) & (weight > 0)
    return sparse.csr_matrix((np.ones(int(keep.sum())), (row[keep], words.indices[order][keep])), shape=words.shape)


def names_its_own(texts: pd.Series, pairs: pd.DataFrame, lexicon: Lexicon) -> NDArray[np.bool_]:
    """Which pairs of a leaving page and a nearby one share a word of the question of the leaving page: one that at most half of the nearby
    pages have. Sister pages share only the words of the subject.

    Args:
        texts: the subject of each page; pairs: page_a (leaving), page_b (nearby), numbered as `texts`.
    """
    there = sparse.csr_matrix(lexicon.matrix(texts) > 0, dtype=np.float64)
    one, other = pairs["page_a"].to_numpy(), pairs["page_b"].to_numpy()
    code, leaving = pd.factorize(one)
    sums = sparse.csr_matrix((np.ones(len(one)), (code, np.arange(len(one)))), shape=(len(leaving), len(one))) @ there[other]
    counts = np.bincount(code, minlength=len(leaving)).astype(float)
    usual = sparse.diags(1 / np.maximum(counts, 1.0)) @ sums
    rare = there[leaving] - there[leaving].multiply(usual > 0.5)
    shared = sparse.csr_matrix(rare)[code].multiply(there[other])
    result: NDArray[np.bool_] = np.asarray(shared.sum(axis=1)).ravel() > 0
    return result


def subject_of(pages: pd.DataFrame) -> pd.Series:
    """The subject of each page: its main heading, else its title, else its path."""
    text = named(pages["h1"])
    text = text.where(text != "", named(pages["title"]))
    return text.where(text != "", pages["path"])


def straighten(redirects: pd.DataFrame) -> pd.DataFrame:
    """The map with every target followed to its end, and loops removed.

    Args:
        redirects: from, to (null for 410), because; one row per leaving address.
    Returns:
        from, to, status (301 or 410), because, by `from`. A target that itself leaves is followed; a circle, or an end without a
        page, becomes 410.
    """
    rows = redirects.drop_duplicates("from", ignore_index=True)
    onward = pd.Index(rows["from"].astype("str")).get_indexer(pd.Index(rows["to"].astype("str")))
    last = np.where(onward >= 0, onward, np.arange(len(rows)))
    for _ in range(max(1, int(np.ceil(np.log2(len(rows) + 1))) + 1)):  # doubling: 2, 4, 8 ... steps at once
        last = last[last]
    circle = onward[last] >= 0
    end = rows["to"].iloc[last].where(~circle, None)
    because = rows["because"].mask(circle, "redirects in a circle")
    out = pd.DataFrame({"from": rows["from"], "to": end.to_numpy(), "because": because})
    out["status"] = np.where(out["to"].notna(), 301, 410)
    return out[["from", "to", "status", "because"]].sort_values("from", ignore_index=True)


def end_of(pages: pd.DataFrame) -> tuple[pd.Series, pd.Series]:
    """The final address of each redirecting address, and the number of steps; -1 for a circle."""
    step = pd.Series(pages["redirects_to"].to_numpy(), index=pages["page"])
    step = step[step.notna() & (step != step.index)]
    end, count = step.copy(), pd.Series(1, index=step.index)
    for _ in range(10):  # browsers and crawlers give up sooner
        onward = end.map(step)
        more = onward.notna()
        end, count = end.where(~more, onward), count + more
    circle = end.isin(step.index)
    ends = pages["page"].map(end.where(~circle))
    return ends.astype("object").where(ends.notna(), None), pages["page"].map(count.where(~circle, -1)).fillna(0).astype(int)
