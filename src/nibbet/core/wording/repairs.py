"""Sentences about repairs. `drawn` is common to all: clicks, impressions and backlinks of the page."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core import sentences as say


def drawn(clicks: pd.Series, shown: pd.Series, outside: pd.Series) -> pd.Series:
    """Clicks and impressions of the long window, and backlinks if any."""
    return say.joined(say.plural(clicks, "click"), ", ", say.plural(shown, "impression"), linked(outside))


def linked(outside: pd.Series) -> pd.Series:
    """ ", 3 backlinks"; empty without any."""
    return say.joined(", ", say.plural(outside, "backlink")).where(outside > 0, "")


def sold(conversions: pd.Series) -> pd.Series:
    """ ", 2 conversions"; empty without any."""
    return say.joined(", ", say.plural(conversions, "conversion")).where(conversions > 0, "")


def kept_out(drawn: pd.Series) -> pd.Series:
    """Why a page needs the repair noindex."""
    return say.joined("Has a noindex although people search for it: ", drawn, ".")


def not_held(state: pd.Series, drawn: pd.Series) -> pd.Series:
    """Why a page needs the repair not_indexed; state: the text of the crawl."""
    return say.joined('Not indexed ("', say.named(state), '"): ', drawn, ".")


def closed(drawn: pd.Series) -> pd.Series:
    """Why a page needs the repair robots."""
    return say.joined("Blocked by robots.txt although people search for it: ", drawn, ".")


def until(last: pd.Series) -> pd.Series:
    """Whether an address that is gone is still used; last: the last day of its use, null where it still is."""
    return say.joined("was used until ", last.dt.strftime("%Y-%m-%d")).where(last.notna(), "is still used")


def fails(status: pd.Series, used: pd.Series, drawn: pd.Series, cover: pd.Series) -> pd.Series:
    """Why a page needs the repair error; used: see `until`; cover: the page on its subject, null without one."""
    end = np.where(cover.notna(), "; the target covers its subject.", "; no page covers its subject.")
    return say.joined("Answers ", status.astype("str"), ", but ", used, ": ", drawn, pd.Series(end, index=status.index))


def asked_in_vain(missed: pd.DataFrame) -> pd.Series:
    """Why an address that is no page needs the repair error; missed: hits, target, covered (whether the target is on the same question, else
    its section).
    """
    lead = np.select(
        [missed["covered"], missed["target"].notna()], ["; the target covers it.", "; the target is the nearest section."], "."
    )
    return say.joined("Requested by people ", say.count(missed["hits"]), " times, but it fails", pd.Series(lead, index=missed.index))


def earned(status: pd.Series, drawn: pd.Series, conversions: pd.Series, lost: pd.Series, *, year: bool) -> pd.Series:
    """Why a page needs the repair restore; lost: clicks a month relative to a year earlier, or to the preceding days."""
    before = "a year earlier" if year else "in the preceding days"
    fell = say.joined(", ", say.count(lost), " clicks a month less than ", before).where(lost >= 0.5, "")
    return say.joined(
        "Answers ", status.astype("str"), ", but earned: ", drawn, sold(conversions), fell, "; no page covers it, so restore it."
    )


def broken(pages: pd.Series, status: pd.Series) -> pd.Series:
    """Why a page needs the repair broken_link; pages: number of pages of the site that link to it."""
    return say.joined(say.plural(pages, "page"), " of the site link to it, but it answers ", status.astype("str"), ".")


def circle(drawn: pd.Series) -> pd.Series:
    """Why a page needs the repair loop."""
    return say.joined("Redirects in a circle: ", drawn, ".")


def steps(number: pd.Series, drawn: pd.Series) -> pd.Series:
    """Why a page needs the repair chain."""
    return say.joined("Redirects in ", number.astype("str"), " steps; redirect it directly to the last: ", drawn, ".")


def linked_by(count: pd.Series, *, by_page: bool) -> pd.Series:
    """ "3 pages of the site link to it and it ", or links instead of pages, of which a crawl has only the number; empty for none."""
    one, several = ("links", "link") if by_page else ("leads", "lead")
    verb = pd.Series(np.where(count == 1, one, several), index=count.index)
    lead = say.joined(say.plural(count, "page" if by_page else "link"), " of the site ", verb, " to it and it ")
    return lead.where(count > 0, "")


def moved(used: pd.Series, linked: pd.Series, drawn: pd.Series) -> pd.Series:
    """Why a page needs the repair redirected; used: see `until`; linked: see `linked_by`."""
    return say.joined("Redirects, but ", linked, used, ": ", drawn, "; link to the new address.")


def duplicate(path: pd.Series, other: pd.Series, drawn: pd.Series) -> pd.Series:
    """Why a page needs the repair duplicate; other: path of the page that stays."""
    slash, case = path.str.endswith("/") != other.str.endswith("/"), path.str.rstrip("/") != other.str.rstrip("/")
    what = np.select([slash & case, slash], ["letter case and the slash at the end", "the slash at the end"], "letter case")
    but_for = pd.Series(what, index=path.index)
    return say.joined("The same page as ", other.astype("str"), " but for ", but_for, ": ", drawn, "; redirect it there.")


def listed(status: pd.Series, canonical: pd.Series, blocked: pd.Series) -> pd.Series:
    """Why a page needs the repair sitemap, for an entry that should not be there."""
    fault = say.joined("it answers ", status.astype("str"))
    fault = fault.where(status >= 300, say.joined("its canonical is ", say.named(canonical)))
    return say.joined("The sitemap lists it, but ", fault.where(~blocked, "it has a noindex"), ".")


def unlisted_by_sitemap(drawn: pd.Series) -> pd.Series:
    """Why a page needs the repair sitemap, for a page that is missing from it."""
    return say.joined("The sitemap does not list it: ", drawn, ".")


def orphan(drawn: pd.Series) -> pd.Series:
    """Why a page needs the repair orphan."""
    return say.joined("No page of the site links to it: ", drawn, ".")


def unseen(conversions: pd.Series, outside: pd.Series) -> pd.Series:
    """Why a page needs the repair unseen."""
    return "It has no search rows although it has " + (sold(conversions) + linked(outside)).str.removeprefix(", ") + "."


def not_crawled(drawn: pd.Series) -> pd.Series:
    """Why a page needs the repair unlisted."""
    return say.joined("Missing from the crawl: ", drawn, ".")


def deep(depth: pd.Series, drawn: pd.Series) -> pd.Series:
    """Why a page needs the repair deep; depth: clicks from the home page."""
    return say.joined("It is ", depth.astype("str"), " clicks from the home page: ", drawn, ".")


def taken(taker: pd.Series, impressions: pd.Series, queries: pd.Series, first: pd.Series) -> pd.Series:
    """Why a page needs the repair theme; taker: path of the page that takes its queries; first: the one with most impressions."""
    count = say.plural(queries, "query")
    lead = ' that this page answers, the largest "' + first.astype("str") + '".'
    return say.joined(taker, " takes ", say.count(impressions), " impressions of ", count, lead)
