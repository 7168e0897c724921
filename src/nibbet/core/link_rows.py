"""Links between pages as expressions that run where the rows are."""

from __future__ import annotations

import ibis
from ibis import _

from nibbet.core.markup import REFUSED, SILENT_FOR

#: share of the pages that link at all from which links to a page are taken for navigation, where no source says where links stand; and pages
#: that must link at all for it to be told
NAVIGATION, FEW_SENDERS = 0.5, 20
#: what a source calls the places of links outside of the text
MENUS = r"nav|menu|head|foot|kopf|fuss|fuß|pied|menü"

#: what is looked at of a link that may be at fault
FAULTY = ("source_id", "target_id", "linked", "anchor", "place", "redirect_to", "status", "silent")


def senders(links: ibis.Table) -> ibis.Table:
    """One row per page: from how many other pages of the site a link leads to it."""
    return pairs(links).group_by("target_id").aggregate(links=_.count())


def pairs(links: ibis.Table) -> ibis.Table:
    """source_id, target_id: every link from one page of the site to another, once."""
    return _between_pages(links).select("source_id", "target_id").distinct()


def faulty(links: ibis.Table, crawl: ibis.Table | None, failing: ibis.Table, host: str) -> ibis.Table:
    """One row per source_id, target (as linked) and status of 300 and more, or null where it gives no answer: target_id (null on other hosts), anchor and
    place (the first by alphabet), redirect_to (where its redirects end, as the links tell), silent (why it gives none), links (how many stand there).

    The crawl's word on the address as it is linked counts first: what redirects is one page with its end, and no link to it would show. Then what the
    source of links says. Of other hosts, what only keeps robots out (REFUSED) is no fault.

    Args:
        crawl: None without one; failing: page_id, fails (status) of pages that fail, for links that spell them otherwise; host: that of addresses
            without one.
    """
    links = _typed(links)
    inside = links.filter(links.aside.isnull(), links.source_id.notnull()).mutate(key=_spelling(links.linked, host))
    answers = inside.mutate(answers=ibis.null("int64"))
    if crawl is not None:
        known = crawl.filter(crawl.status >= 300).mutate(key=_spelling(crawl.page, host))
        answers = inside.left_join(known.group_by("key").aggregate(answers=known.status.max().cast("int64")), "key").drop("key_right")
    rows = answers.left_join(failing, answers.target_id == failing.page_id)
    own = rows.mutate(status=ibis.coalesce(rows.answers, rows.fails, rows.status)).select(FAULTY)
    outside = links.filter(
        links.source_id.notnull(),
        links.target_id.isnull(),
        links.aside.startswith("other host"),
        links.status.notin(REFUSED).fill_null(True),
    )
    every = own.union(outside.select(FAULTY))
    # a status of 0 is no fault: others write it for what they did not ask
    faults = every.filter((every.status >= 300) | every.silent.isin(SILENT_FOR))
    sums = {name: faults[name].min() for name in ("anchor", "place", "redirect_to", "silent")} | {"links": faults.count()}
    return faults.group_by("source_id", "target_id", target=faults.linked, status=faults.status).aggregate(**sums)


def _typed(links: ibis.Table) -> ibis.Table:
    """The links with columns of their own types where no file gives them."""
    kinds = {**dict.fromkeys(("anchor", "place", "redirect_to", "silent"), "string"), "status": "int64"}
    return links.mutate(**{name: links[name].cast(kind) for name, kind in kinds.items()})


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


def anchor_counts(links: ibis.Table) -> ibis.Table:
    """page, anchor, links, menus: how many other pages of the site link to each page with these words in their text, and in menus and footers."""
    rows = _with_menus(links).select("source_id", "anchor", "menu", page="target_id").distinct()
    counted = rows.group_by("page", "anchor").aggregate(links=(~_.menu).sum(), menus=_.menu.sum())
    return counted.order_by("page", "anchor")


def in_navigation(links: ibis.Table) -> ibis.Table:
    """target_id: pages to which a menu or footer links."""
    return _with_menus(links).filter(_.menu).select("target_id").distinct().order_by("target_id")


def _with_menus(links: ibis.Table) -> ibis.Table:
    """Links between pages with `menu`: whether they stand in a menu or footer, as the source says where its links stand; where it does not, links
    to pages that more than NAVIGATION of the pages that link at all link to.
    """
    between = _between_pages(links)
    if bool(between.place.type().is_null()):
        between = between.mutate(place=ibis.null("string"))
    counted = pairs(links).group_by("target_id").aggregate(senders=_.count())
    senders = between.aggregate(all=_.source_id.nunique(), named=_.place.count())
    usual = counted.cross_join(senders).filter(lambda t: (t.named == 0) & (t.all >= FEW_SENDERS) & (t.senders > NAVIGATION * t["all"]))
    marked = between.left_join(usual.select(usual_id="target_id"), [("target_id", "usual_id")])
    placed = _.place.lower().re_search(MENUS).fill_null(False)
    return marked.mutate(menu=placed | _.usual_id.notnull()).drop("usual_id")


def _between_pages(links: ibis.Table) -> ibis.Table:
    """Links from one page of the site to another."""
    return links.filter(links.aside.isnull(), links.source_id.notnull(), links.target_id.notnull(), links.source_id != links.target_id)
