"""Pages that matter and that search hardly shows, each with the first cause that holds."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core import sentences as say
from nibbet.core.wording import pages as wording
from nibbet.core.words import rarity
from nibbet.once import threads

ABSENT = "page importance cause mend because impressions sessions".split()
#: largest difference in words between a page and its copy, as a share of the longer
LENGTHS = 0.2
#: the causes in order, with the remedy for each
CAUSES = {
    "error": "restore it, or redirect it to the page that covers it",
    "robots": "allow it in robots.txt, or remove it from the lists",
    "noindex": "remove the noindex, or remove it from the lists",
    "canonical": "make it its own canonical, or remove it from the lists",
    "moved": "link and list the new address",
    "unlinked": "link to it from related pages",
    "deep": "link to it from pages nearer the home page",
    "unfetched": "link to it from pages that robots visit, and list it in the sitemap",
    "not_indexed": "add content that other pages lack, and link to it",
    "duplicate": "merge it with the page of the same content, or make them different",
    "young": "wait: pages of this site need longer to appear",
    "no_demand": "no cause was found: check whether anybody searches for it",
}
#: share of the usual impressions of shown pages below which a page is absent, and impressions below which it always is
FEW_SHARE, FEW = 0.02, 3
#: visits of any channel from which a page matters
VISITS = 10
#: clicks from the home page beyond which a page may be too far away, and the quantile of shown pages that it must exceed
FAR, FARTHEST = 5, 0.95
#: share of the pages shown on which a log must have robots before a page without robots means anything
LOGGED = 0.8
#: days until pages of a site are first shown: default, minimum, pages needed to estimate it, and quantile
WAIT, LEAST_WAIT, WAITED, LATEST = 60, 28.0, 10, 0.9
#: cosine of distinctive words from which two pages say the same, and distinctive words required
ALIKE, WORDS = 0.9, 12
#: most pages with the same title, heading and description that count as copies
MOST_COPIES = 5


def absent_pages(pages: pd.DataFrame, facts: pd.DataFrame, copies: pd.Series, began: pd.Timestamp) -> pd.DataFrame:
    """Pages that matter and that search hardly shows, by importance.

    Args:
        pages: the ledger, by page number: page, path, status, blocked, gone, redirects_to, canonical_to, robots_blocked, in_sitemap,
            inlinks, depth, backlinks, sessions, conversions_long, impressions, impressions_reference, impressions_long, age_days,
            published, first_seen (in search).
        facts: by page number: listed (in the editorial list), navigation (whether a navigation links to it), fetches (by robots; null
            without a log), closed_by (the rule of robots.txt that blocks it), index_state (null where it is indexed or this is unknown).
        copies: by page number, the page with the same content; null where there is none. began: the first day of the search data.
    Returns:
        ABSENT with pages by number. importance: number of six signs: an editor lists it, the sitemap does, a navigation links to
        it, it has visits, it sells, it has backlinks. cause: the first of CAUSES that holds; further ones are added in the text.
        impressions and sessions are of the recent window. A page that was as absent at this time of the previous year, but is shown at
        others, is out of season.
    """
    shown, known = pages["impressions"].fillna(0).astype(float), pages["impressions_long"].fillna(0).astype(float)
    alive = (pages["status"].fillna(200) < 300) & ~pages["gone"] & ~pages["blocked"]
    least = few_impressions(pages)
    signs = _signs(pages, facts)
    holds = _causes(pages, facts, copies, alive & (shown >= least), waiting_days(pages, began))
    fault = holds.drop(columns=["young", "no_demand"]).any(axis=1)
    resting = (known >= least) & (pages["impressions_reference"].fillna(0) < least) & ~fault
    chosen = (shown < least) & signs["importance"].gt(0) & ~resting & (alive | fault)
    at = pages.index[chosen]
    rows, names = holds.loc[at], np.array(list(CAUSES))
    first = pd.Series(names[rows.to_numpy(bool).argmax(axis=1)] if len(at) else [], index=at, dtype="str")
    why = wording.absent(pages.loc[at], facts.loc[at], copies.reindex(at).map(pages["page"]), first)
    result = pd.DataFrame(
        {
            "page": at,
            "importance": signs.loc[at, "importance"],
            "cause": first,
            "mend": first.map(CAUSES).astype("str"),
            "because": wording.why_absent(why, signs.loc[at, "signs"], _also(rows, first)),
            "impressions": pages.loc[at, "impressions"].fillna(0).astype("int64"),
            "sessions": pages.loc[at, "sessions"].astype("Int64"),
            "strength": (pages.loc[at, "conversions_long"].fillna(0).astype(float) + pages.loc[at, "sessions"].fillna(0).astype(float)),
        }
    )
    order = ["importance", "strength", "page"]
    return result.sort_values(order, ascending=[False, False, True], ignore_index=True)[ABSENT]


def few_impressions(pages: pd.DataFrame) -> float:
    """Impressions of the recent window below which a page of this site is absent. pages: impressions, status, gone, blocked."""
    shown = pages["impressions"].fillna(0).astype(float)
    usual = shown[(pages["status"].fillna(200) < 300) & ~pages["gone"] & ~pages["blocked"] & (shown > 0)].median()
    return max(FEW, FEW_SHARE * usual) if pd.notna(usual) else float(FEW)


def _signs(pages: pd.DataFrame, facts: pd.DataFrame) -> pd.DataFrame:
    """importance: number of signs that a page matters; signs: which, in words."""
    visits, sold = pages["sessions"].fillna(0).astype(float), pages["conversions_long"].fillna(0).astype(float)
    outside = pages["backlinks"].fillna(0).astype(float)
    conditions: list[tuple[pd.Series, pd.Series | str]] = [
        (facts["listed"], "editors list it"),
        (pages["in_sitemap"].eq(True).fillna(False), "the sitemap lists it"),
        (facts["navigation"], "a navigation links to it"),
        (visits >= VISITS, say.plural(visits, "session")),
        (sold > 0, say.plural(sold, "conversion")),
        (outside > 0, say.joined(say.plural(outside, "link"), " from outside")),
    ]
    parts = [(holds.astype(bool), words) for holds, words in conditions]
    importance = pd.DataFrame([holds for holds, _ in parts]).sum().astype("int64").set_axis(pages.index)
    return pd.DataFrame({"importance": importance, "signs": wording.listed(parts, pages.index)})


def _causes(pages: pd.DataFrame, facts: pd.DataFrame, copies: pd.Series, present: pd.Series, wait: float) -> pd.DataFrame:
    """One column for each of CAUSES: whether it holds. present: pages that search shows, the standard of comparison; wait: days in which a
    page may be young.
    """
    status = pages["status"].fillna(200).astype(int)
    elsewhere = pages["canonical_to"].notna() & (pages["canonical_to"] != pages["page"])
    depth, inlinks = pages["depth"].astype("Float64"), pages["inlinks"].astype("Float64")
    far = max(FAR, float(depth[present].quantile(FARTHEST)) if depth[present].notna().any() else FAR)
    fetches = facts["fetches"].astype("Float64")
    logged = bool(present.any()) and float(fetches[present].gt(0).fillna(False).mean()) >= LOGGED
    holds = {
        "error": status >= 400,
        "robots": pages["robots_blocked"].eq(True),
        "noindex": pages["blocked"],
        "canonical": elsewhere & (status < 300),
        "moved": status.between(300, 399),
        "unlinked": inlinks.eq(0) & pages["path"].ne("/"),
        "deep": depth.gt(far),
        "unfetched": fetches.eq(0) if logged else pd.Series(False, index=pages.index),
        "not_indexed": facts["index_state"].notna(),
        "duplicate": copies.reindex(pages.index).notna(),
        "young": pages["age_days"].lt(wait),
        "no_demand": pd.Series(True, index=pages.index),
    }
    return pd.DataFrame({name: one.fillna(False).astype(bool) for name, one in holds.items()})[list(CAUSES)]


def waiting_days(pages: pd.DataFrame, began: pd.Timestamp) -> float:
    """Days within which the share LATEST of the pages published since the data begin were first shown; WAIT for fewer than WAITED pages."""
    waited = (pages["first_seen"] - pages["published"]).dt.days[pages["published"] > began]
    waited = waited[waited >= 0]
    return max(float(waited.quantile(LATEST)), LEAST_WAIT) if len(waited) >= WAITED else float(WAIT)


def _also(holds: pd.DataFrame, cause: pd.Series) -> pd.Series:
    """Further causes that hold, in words; an address that fails or redirects needs no more."""
    ends = cause.isin(["error", "canonical", "moved", "no_demand"])
    return wording.listed([(holds[name] & (cause != name) & ~ends, name.replace("_", " ")) for name in list(CAUSES)[:-1]], holds.index)


def copies_of(pages: pd.DataFrame, wanted: NDArray[np.int64], words: sparse.csr_matrix) -> pd.Series:
    """For each page wanted, the page with most impressions that says the same: in title, heading and description, or in nearly all distinctive
    words.

    Args:
        pages: by page number: title, h1, description where known, words (how many, where known), described (whether more than title and heading
            is known of it), impressions_long, gone, blocked; words: pages x words, from `page_words`.
    Returns:
        By page number; null where no living page with more impressions says the same, or one as long: titles alone do not tell.
    """
    result = pd.Series(np.nan, index=pages.index)
    names = [name for name in ("title", "h1", "description") if name in pages and pages[name].notna().any()]
    shown = pages["impressions_long"].fillna(0).astype(float)
    open_ = ~pages["gone"] & ~pages["blocked"]
    if not len(wanted) or not names:
        return result
    texts = say.joined(*[part for name in names for part in (say.named(pages[name]).str.casefold().str.strip(), "\n")])
    titled = say.named(pages["title"]).ne("") if "title" in pages else pd.Series(False, index=pages.index)
    # a text on more pages than that is a pattern of the site
    whole = texts.where(titled & (texts.groupby(texts).transform("size") <= MOST_COPIES))
    best = shown.where(open_).groupby(whole).transform("max")
    first = pd.Series(pages.index, index=pages.index).where(open_ & shown.eq(best) & (shown > 0)).groupby(whole).transform("min")
    result = first.where(first.notna() & (first != pages.index) & best.gt(shown)).reindex(pages.index)
    result = result.where(result.notna(), _alike(words, wanted, np.flatnonzero((open_ & (shown > 0)).to_numpy()), shown))
    length = pages["words"].astype("float64")
    of_copy = result.map(length)
    as_long = ~((length - of_copy).abs() > LENGTHS * np.fmax(length, of_copy))
    return result.where(pages["described"] & result.map(pages["described"]).eq(True) & as_long)


def _alike(words: sparse.csr_matrix, wanted: NDArray[np.int64], open_: NDArray[np.int64], shown: pd.Series) -> pd.Series:
    """For each page wanted, the page of `open_` that has nearly all its distinctive words, and vice versa; null without one."""
    result = pd.Series(np.nan, index=shown.index)
    weight = rarity(words)
    weight[np.asarray((words > 0).sum(axis=0)).ravel() > words.shape[0] / 2] = 0.0
    telling = sparse.csr_matrix(words.multiply(weight[None, :]))
    telling.eliminate_zeros()
    count, length = np.diff(telling.indptr), np.sqrt(np.asarray(telling.multiply(telling).sum(axis=1)).ravel())
    rows = sparse.csr_matrix(sparse.diags(1 / np.maximum(length, 1e-9)) @ telling)
    wanted, open_ = wanted[count[wanted] >= WORDS], open_[count[open_] >= WORDS]
    if not len(wanted) or not len(open_):
        return result
    from sparse_dot_topn import sp_matmul_topn

    near = sp_matmul_topn(rows[wanted], rows[open_].T.tocsr(), top_n=2, threshold=ALIKE, n_threads=threads()).tocoo()
    table = pd.DataFrame({"page": wanted[near.row], "other": open_[near.col], "likeness": near.data})
    table = table[(table["page"] != table["other"]) & (shown.to_numpy()[table["other"]] > shown.to_numpy()[table["page"]])]
    table = table.sort_values(["page", "likeness", "other"], ascending=[True, False, True]).drop_duplicates("page")
    result.loc[table["page"].to_numpy()] = table["other"].to_numpy(float)
    return result
