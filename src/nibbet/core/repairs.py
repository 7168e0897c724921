"""Repairs: technical faults between a page and its traffic, from the joined tables."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.ended import still_used
from nibbet.core.ledger import is_partial
from nibbet.core.redirects import end_of
from nibbet.core.windows import MONTH_DAYS, Windows
from nibbet.core.wording import repairs as wording

REPAIRS = ["page", "repair", "weight", "target", "because"]
#: impressions in the long window from which a page is searched for; clicks from which it matters
DRAWS, MATTERS = 50, 20
#: share of the living pages that a sitemap must list before missing ones are reported
LISTS = 0.5
#: clicks from the home page beyond which a page that matters is deep
FAR = 5
#: days after the last use of an address from which it is given
WEEK = 7
#: words of an index state that mean not indexed: not, none, left out, missing
ABSENT = (
    r"\b(?:not?|non|none|nicht|nein|kein\w*|niet|nee|inte|nej|ikke|nei|não|nao|nie|ne|nem|не|нет|hayır|absent|missing|false|0)\b|exclu|ausgeschl|esclus|"
    r"uitgesl|uteslut|wyklucz|исключ|\bun\w*index|\bde-?index|niezindeks|未|외|dışı|(?<!\w)ei(?!\w)"
)
#: share of the impressions of a query that another page must take, and least impressions
TAKES, TAKEN = 0.5, 100


def find_repairs(
    pages: pd.DataFrame,
    pairs: pd.DataFrame,
    covers: pd.Series,
    windows: Windows,
    *,
    links: pd.DataFrame | None,
    kept_from_index: pd.Series,
    groups: pd.Series,
    last_used: pd.Series,
    over: pd.Series,
) -> pd.DataFrame:
    """Every fault in the tables, by visits at stake.

    Args:
        pages: the ledger, indexed by page number, with gone, blocked, redirects_to (address), status, children, hits, in_sitemap,
            robots_blocked.
        pairs: the query map: page, query, role, brand, impressions, clicks.
        covers: per gone or poor page, the number of the page that covers its subject.
        links: target (page number), pages: number of pages of the site that link to it; None without a source of links.
        groups: the merge group of pages that are in one: pages to be merged have no fault of theme.
        last_used, over: per page that is gone, the last day of its use (null where unknown), and whether its time was over; see `core.ended`.
        kept_from_index: per page, the index state where the crawl has one; null elsewhere.
    Returns:
        REPAIRS with pages by number and target by address: weight is visits at stake in the long window (clicks from search, and hits by
        people where a log was given). One row per page and repair; a page may need several.
    """
    table = _Table(pages, windows, last_used, over)
    _of_the_index(table, kept_from_index.reindex(pages.index))
    _of_addresses(table, covers.reindex(pages.index).map(pages["page"]), links)
    same = twin_of(pages)
    table.add("duplicate", same.notna(), wording.duplicate(pages["path"], same.map(pages["path"]), table.drawn), same.map(pages["page"]))
    _of_lists(table, same.isna())
    result = pd.concat([*table.parts, _themes(pages, pairs, windows, table.weight, groups)], ignore_index=True)
    order = np.lexsort([result["repair"].to_numpy(dtype=object), result["page"].to_numpy(), -result["weight"].to_numpy()])
    return result.iloc[order].reset_index(drop=True)[REPAIRS]


def missed_addresses(missed: pd.DataFrame, windows: Windows) -> pd.DataFrame:
    """The repairs of addresses that are no page in any source and that people requested in vain: REPAIRS.

    Args:
        missed: page and target (addresses), hits in the long window, covered: whether the target is on the same question, else its section.
    """
    return missed.assign(repair="error", weight=missed["hits"].astype(float), because=wording.asked_in_vain(missed))[REPAIRS]


def anchor_faults(anchors: pd.DataFrame, pages: pd.DataFrame) -> pd.DataFrame:
    """Pages whose links from other sites repeat one anchor far more often than is usual on this site, and those whose internal links
    have no describing words: REPAIRS with pages by number.

    Args:
        anchors: from `core.anchors.anchor_mix`; pages: clicks_long by number. Uniform internal anchors do no harm.
    """
    rows = anchors[((anchors["flag"] == "high") & (anchors["side"] == "outside")) | (anchors["flag"] == "silent")]
    weight = rows["page"].map(pages["clicks_long"]).astype("float64").fillna(0.0)
    return rows.assign(repair="anchors", weight=weight, target=None)[REPAIRS]


class _Table:
    """The repairs so far, and the columns common to all."""

    def __init__(self, pages: pd.DataFrame, windows: Windows, last_used: pd.Series, over: pd.Series) -> None:
        self.pages, self.parts = pages, list[pd.DataFrame]()
        self.clicks, self.shown = pages["clicks_long"].fillna(0), pages["impressions_long"].fillna(0)
        hits, self.outside = pages["hits"].fillna(0).astype(float), pages["backlinks"].fillna(0).astype(float)
        self.weight = (self.clicks + hits).astype(float)
        self.status = pages["status"].fillna(200).astype(int)
        self.alive = (self.status == 200) & ~pages["gone"] & pages["in_crawl"] & ~pages["blocked"]
        self.used = (self.weight > 0) | (self.outside > 0)
        self.sold = pages["conversions_long"].fillna(0)
        self.matters = (self.clicks >= MATTERS) | (self.sold > 0) | (self.outside > 0)
        self.recent_days, self.year = windows.recent.days, windows.reference_kind == "year"
        self.still = still_used(last_used.reindex(pages.index), windows.as_of)
        self.over = over.reindex(pages.index, fill_value=False).astype(bool)
        self.until = wording.until(last_used.reindex(pages.index).where(~still_used(last_used, windows.as_of, WEEK)))
        self.drawn = wording.drawn(self.clicks, self.shown, self.outside)

    def add(self, name: str, chosen: pd.Series, because: pd.Series, target: pd.Series | None = None) -> None:
        """Adds a repair for these pages, with reason and target."""
        at = self.pages.index[chosen.fillna(False).astype(bool)]
        known = pd.Series(None, index=at, dtype="object") if target is None else target.reindex(at)
        rows = {"page": at, "repair": name, "weight": self.weight[at].to_numpy(), "target": known.to_numpy()}
        self.parts.append(pd.DataFrame({**rows, "because": because.reindex(at).to_numpy()}))


def _of_the_index(t: _Table, state: pd.Series) -> None:
    """Pages blocked from the index that people search for, and pages not indexed by their index state."""
    pages = t.pages
    t.add("noindex", pages["blocked"] & (t.shown >= DRAWS), wording.kept_out(t.drawn))
    t.add("not_indexed", t.alive & state.notna(), wording.not_held(state, t.drawn))
    t.add("robots", pages["robots_blocked"].eq(True).fillna(False) & (t.shown >= DRAWS), wording.closed(t.drawn))


def _of_addresses(t: _Table, near: pd.Series, links: pd.DataFrame | None) -> None:
    """Addresses that fail or redirect although they are used."""
    pages, failed = t.pages, t.status >= 400
    needed = t.used & (~t.over | (t.still & (t.weight > 0)) | (t.outside > 0))
    earned = failed & near.isna() & t.matters & ~t.over
    t.add("error", failed & needed & ~earned, wording.fails(t.status, t.until, t.drawn, near), near)
    lost = ((pages["base"].fillna(0) - pages["clicks"].fillna(0)) * MONTH_DAYS / t.recent_days).clip(lower=0.0)
    t.add("restore", earned, wording.earned(t.status, t.drawn, t.sold, lost, year=t.year))
    count = pages["inlinks"].fillna(0) if links is None else links.set_index("target")["pages"].reindex(pages.index).fillna(0)
    if links is not None:
        t.add("broken_link", failed & (count > 0), wording.broken(count, t.status), near)
    end, steps = end_of(pages)
    moved = pages["redirects_to"].notna() & t.status.between(300, 399)
    loop, chain = moved & (steps < 0), moved & (steps >= 2)
    t.add("loop", loop, wording.circle(t.drawn))
    t.add("chain", chain, wording.steps(steps, t.drawn), end)
    needed &= t.still | (count > 0) | (t.outside > 0)
    leads = wording.linked_by(count, by_page=links is not None)
    t.add("redirected", moved & ~loop & ~chain & needed, wording.moved(t.until, leads, t.drawn), end)
    if pages["in_sitemap"].notna().any():
        listed = pages["in_sitemap"].eq(True).fillna(False) & (pages["gone"] | pages["blocked"])
        end = end.where(end.notna(), pages["canonical_to"].where(pages["gone"] & (t.status < 300)))
        missing = t.alive & pages["in_sitemap"].eq(False).fillna(False) & t.matters & (pages["in_sitemap"][t.alive].mean() >= LISTS)
        because = wording.listed(t.status, pages["canonical_to"], pages["blocked"]).where(listed, wording.unlisted_by_sitemap(t.drawn))
        t.add("sitemap", listed | missing, because, end.where(end.notna(), near).where(listed))


def twin_of(pages: pd.DataFrame) -> pd.Series:
    """For each page that answers under an address that differs only in letter case or a trailing slash from that of another page with
    the same title, the number of the one that stays: in the crawl, with most clicks; null for the others.

    Args:
        pages: by number: page, title, status, gone, blocked, in_crawl, clicks_long. A title that is unknown contradicts none.
    """
    key = pages["page"].str.lower().str.rstrip("/")
    open_ = ~pages["gone"] & ~pages["blocked"] & (pages["status"].fillna(200) == 200)
    rows = pages[open_ & key.where(open_).duplicated(keep=False)]
    rows = rows.assign(key=key[rows.index], text=rows["title"].astype("str").str.strip().str.casefold())
    rows = rows.sort_values(["in_crawl", "clicks_long", "page"], ascending=[False, False, True], kind="stable")
    first = rows.drop_duplicates("key")
    stays = rows["key"].map(pd.Series(first.index, index=first["key"]))
    same = rows["title"].isna() | stays.map(rows["title"]).isna() | (rows["text"] == stays.map(rows["text"]))
    return stays.where(same & (stays != rows.index)).reindex(pages.index)


def _of_lists(t: _Table, alone: pd.Series) -> None:
    """Pages without inbound links, without search rows, missing from the crawl, or far from the home page; alone: is no duplicate."""
    pages = t.pages
    lonely = t.alive & pages["inlinks"].notna() & (pages["inlinks"].fillna(1) == 0) & (pages["path"] != "/")
    t.add("orphan", lonely, wording.orphan(t.drawn))
    if pages["in_search"].any():
        t.add("unseen", t.alive & ~pages["in_search"] & ((t.sold > 0) | (t.outside > 0)), wording.unseen(t.sold, t.outside))
    if pages["in_crawl"].any() and not is_partial(pages):
        missed = ~pages["in_crawl"] & ~pages["gone"] & pages["in_search"] & t.matters & alone
        t.add("unlisted", missed, wording.not_crawled(t.drawn))
    far = pages["depth"].fillna(0).astype(int)
    t.add("deep", t.alive & (far >= FAR) & (t.clicks >= MATTERS), wording.deep(far, t.drawn))


def out_of_index(state: pd.Series) -> pd.Series:
    """Which index states mean not indexed, in the words that crawls use, in any language."""
    return state.astype("str").str.contains(ABSENT, case=False, regex=True).fillna(False)


def _themes(pages: pd.DataFrame, pairs: pd.DataFrame, windows: Windows, weight: pd.Series, groups: pd.Series) -> pd.DataFrame:
    """Inner pages whose queries the home page or a parent page takes."""
    owners = pairs.loc[pairs["role"] == "owner", ["query", "page"]].rename(columns={"page": "owner"})
    rows = pairs[(pairs["role"] == "rival") & ~pairs["brand"].astype(bool) & (pairs["impressions"] >= TAKEN)].merge(owners, on="query")
    merged = rows["page"].map(groups).eq(rows["owner"].map(groups))
    rows, path = rows[~merged], pages["path"]
    above, inner = rows["page"].map(path), rows["owner"].map(path)
    inside = [a == "/" or b.startswith(a.rstrip("/") + "/") for a, b in zip(above, inner, strict=True)]  # few rivals have such a weight
    rows = rows[np.array(inside, dtype=bool) & (rows["page"] != rows["owner"]).to_numpy() & (rows["share_impressions"] >= TAKES).to_numpy()]
    if rows.empty:
        return pd.DataFrame(columns=REPAIRS)
    rows = rows.sort_values(["owner", "impressions", "query"], ascending=[True, False, True])
    sums = rows.groupby("owner").agg(
        queries=("query", "size"), impressions=("impressions", "sum"), first=("query", "first"), taker=("page", "first")
    )
    taker = path.reindex(sums["taker"]).set_axis(sums.index)
    because = wording.taken(taker, sums["impressions"], sums["queries"], sums["first"])
    return pd.DataFrame(
        {
            "page": sums.index,
            "repair": "theme",
            "weight": weight.reindex(sums.index).to_numpy(),
            "target": None,
            "because": because.to_numpy(),
        }
    )
