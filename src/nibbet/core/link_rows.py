"""Internal links, as expressions evaluated in the engine."""

from __future__ import annotations

import ibis
from ibis import _

from nibbet.core.markup import REFUSED, SILENT_FOR

#: share of all linking pages from which links to a page count as navigation, where no source gives the place of links; and linking pages
#: required for that
NAVIGATION, FEW_SENDERS = 0.5, 20
#: names of menus, headers and footers in sources
MENUS = r"nav|menu|head|foot|kopf|fuss|fuß|pied|menü"

#: columns of a link that may be at fault
FAULTY = ("source_id", "target_id", "linked", "anchor", "place", "redirect_to", "status", "silent")


def senders(links: ibis.Table) -> ibis.Table:
    """One row per page: number of other pages of the site that link to it."""
    return pairs(links).group_by("target_id").aggregate(links=_.count())


def targets(links: ibis.Table) -> ibis.Table:
    """One row per page: number of other pages of the site to which it links."""
    return pairs(links).group_by("source_id").aggregate(links=_.count())


def pairs(links: ibis.Table) -> ibis.Table:
    """source_id, target_id: every link between two pages of the site, once."""
    return _between_pages(links).select("source_id", "target_id").distinct()


def faulty(links: ibis.Table, crawl: ibis.Table | None, failing: ibis.Table, host: str) -> ibis.Table:
    """One row per source_id, target (as linked) and status of 300 and more, or null without an answer: target_id (null on other hosts), anchor
    and place (the first in alphabetical order), redirect_to (the end of its redirects, by the links), silent (why there is no answer),
    links (their number).

    The status of the address as linked in the crawl takes precedence: a redirecting address is one page with its target, so links to it
    would not show. The source of links comes next. On other hosts, an answer that only refuses robots (REFUSED) is no fault.

    Args:
        crawl: None without one; failing: page_id, fails (status) of pages that fail, for links with another spelling; host: of addresses
            without one.
    """
    links = _typed(links)
    inside = links.filter(links.aside.isnull(), links.source_id.notnull()).mutate(key=_spelling(links.linked, host))
    answers = inside.mutate(answers=ibis.null("int64"))
    if crawl is not None:
        known = crawl.filter(crawl.status >= 300).mutate(key=_spelling(crawl.page, host))
        answers = inside.left_join(known.group_by("key").aggregate(answers=known.status.max().cast("int64")), "key").drop("key_right")
    rows = answers.left_join(failing, answers.target_id == failing.page_id)
    final = rows.mutate(status=ibis.coalesce(rows.answers, rows.fails, rows.status)).select(FAULTY)
    outside = links.filter(
        links.source_id.notnull(),
        links.target_id.isnull(),
        links.aside.startswith("other host"),
        links.status.notin(REFUSED).fill_null(True),
    )
    every = final.union(outside.select(FAULTY))
    # a status of 0 is no fault: some sources write it for links that they did not check
    faults = every.filter((every.status >= 300) | every.silent.isin(SILENT_FOR))
    sums = {name: faults[name].min() for name in ("anchor", "place", "redirect_to", "silent")} | {"links": faults.count()}
    return faults.group_by("source_id", "target_id", target=faults.linked, status=faults.status).aggregate(**sums)


def _typed(links: ibis.Table) -> ibis.Table:
    """The links with typed columns where no file has them."""
    kinds = {**dict.fromkeys(("anchor", "place", "redirect_to", "silent"), "string"), "status": "int64"}
    return links.mutate(**{name: links[name].cast(kind) for name, kind in kinds.items()})


def _spelling(address: ibis.Value, host: str) -> ibis.Value:
    """An address without scheme, `www.` and fragment; without a host it is on the host of the site."""
    bare = address.re_replace("#.*$", "").re_replace(r"^https?://(?:www\.)?", "//")
    return ibis.cases((bare.startswith("//"), bare), (bare.startswith("/"), ibis.literal(f"//{host}").concat(bare)), else_=bare)


def rare(links: ibis.Table) -> ibis.Table:
    """source_id, target_id: links to pages with at most two linking pages."""
    counted = pairs(links).mutate(pages=_.count().over(group_by="target_id"))
    return counted.filter(counted.pages <= 2).select("source_id", "target_id")


def anchors(links: ibis.Table) -> ibis.Table:
    """page, anchor: the distinct texts of links from other pages of the site."""
    return _between_pages(links).filter(_.anchor.notnull()).select("anchor", page="target_id").distinct()


def anchor_counts(links: ibis.Table) -> ibis.Table:
    """page, anchor, links, menus: number of other pages of the site that link to each page with these words in their text, and in menus and
    footers.
    """
    rows = _with_menus(links).select("source_id", "anchor", "menu", page="target_id").distinct()
    counted = rows.group_by("page", "anchor").aggregate(links=(~_.menu).sum(), menus=_.menu.sum())
    return counted.order_by("page", "anchor")


def in_navigation(links: ibis.Table) -> ibis.Table:
    """target_id: pages to which a menu or footer links."""
    return _with_menus(links).filter(_.menu).select("target_id").distinct().order_by("target_id")


def _with_menus(links: ibis.Table) -> ibis.Table:
    """Links between pages with `menu`: whether they are in a menu or footer, by the place in the source; without it, links
    to pages to which more than NAVIGATION of all linking pages link.
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
    """Links between two pages of the site."""
    return links.filter(links.aside.isnull(), links.source_id.notnull(), links.target_id.notnull(), links.source_id != links.target_id)
