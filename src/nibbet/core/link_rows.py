"""Links between pages as expressions that run where the rows are."""

from __future__ import annotations

import ibis
from ibis import _


def senders(links: ibis.Table) -> ibis.Table:
    """One row per page: from how many other pages of the site a link leads to it."""
    return pairs(links).group_by("target_id").aggregate(links=_.count())


def pairs(links: ibis.Table) -> ibis.Table:
    """source_id, target_id: every link from one page of the site to another, once."""
    return _between_pages(links).select("source_id", "target_id").distinct()


def faulty(links: ibis.Table, crawl: ibis.Table, failing: ibis.Table, host: str) -> ibis.Table:
    """One row per source_id, target (as linked) and status of 300 and more: target_id, anchor and place (the first by alphabet), links (how many stand there).

    The crawl's word on the address as it is linked counts first: what redirects is one page with its end, and no link to it would show.

    Args:
        failing: page_id, fails (status) of pages that fail, for links that spell them otherwise; host: that of addresses without one.
    """
    known = crawl.filter(crawl.status >= 300).mutate(key=_spelling(crawl.page, host))
    faults = known.group_by("key").aggregate(answers=known.status.max())
    inside = links.filter(links.aside.isnull(), links.source_id.notnull()).mutate(key=_spelling(links.linked, host))
    rows = inside.left_join(faults, "key").drop("key_right")
    rows = rows.left_join(failing, rows.target_id == failing.page_id)
    rows = rows.mutate(status=ibis.coalesce(rows.answers, rows.fails), target=rows.linked)
    rows = rows.filter(rows.status.notnull()).select("source_id", "target_id", "target", "anchor", "place", "status")
    sums = {"anchor": rows.anchor.min(), "place": rows.place.min(), "links": rows.count()}
    return rows.group_by("source_id", "target_id", "target", "status").aggregate(**sums)


def _spelling(address: ibis.Value, host: str) -> ibis.Value:
    """An address without scheme, `www.` and fragment, one without a host on the site's own."""
    bare = address.re_replace("#.*$", "").re_replace(r"^https?://(?:www\.)?", "//")
    return ibis.cases((bare.startswith("//"), bare), (bare.startswith("/"), ibis.literal(f"//{host}").concat(bare)), else_=bare)


def rare(links: ibis.Table) -> ibis.Table:
    """source_id, target_id: the links to pages that at most two other pages of the site link to."""
    counted = pairs(links).mutate(pages=_.count().over(group_by="target_id"))
    return counted.filter(counted.pages <= 2).select("source_id", "target_id")


def anchors(links: ibis.Table) -> ibis.Table:
    """page, anchor: the texts of links from other pages of the site to each, once."""
    return _between_pages(links).filter(_.anchor.notnull()).select("anchor", page="target_id").distinct()


def _between_pages(links: ibis.Table) -> ibis.Table:
    """Links from one page of the site to another."""
    return links.filter(links.aside.isnull(), links.source_id.notnull(), links.target_id.notnull(), links.source_id != links.target_id)
