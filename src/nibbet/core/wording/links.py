"""Sentences about links: broken ones, lost or failing backlinks, suggested ones, and anchors."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core import sentences as say


def broken(shown: pd.Series, rows: pd.DataFrame, moved: pd.Series, mend: pd.Series) -> pd.Series:
    """Shown: the address as linked; rows: status, silent (why it did not answer), target_id (null on other hosts); moved: it redirects; mend:
    the address to link to, or null.
    """
    status, outside = rows["status"].astype("Int64"), rows["target_id"].isna()
    silent = say.joined(" does not answer (", say.named(rows["silent"]), "); ")
    lead = say.joined(" answers ", status.astype("str").fillna(""), "; ").where(status.notna(), silent)
    ends = {
        "link directly to its target.": moved & mend.notna(),
        "its target is unknown.": moved,
        "link to the given page instead.": mend.notna(),
        "link to another source, or remove the link.": outside,
    }
    return shown + lead + pd.Series(np.select(list(ends.values()), list(ends), "remove the link: no page covers it."), index=rows.index)


def backlink(links: pd.DataFrame) -> pd.Series:
    """Links: state (failing, redirected, lost), status, to (the redirect target, or null)."""
    mend = links["to"].notna().map({True: "redirect it to the given page.", False: "no page replaces it."})
    sentences: dict[str, pd.Series | str] = {
        "failing": say.joined("Leads to an address that answers ", links["status"].astype("str"), "; ", mend),
        "redirected": "Leads to an address that redirects; ask for a link to the new one.",
        "lost": "In an older export but not in the newest.",
    }
    return say.chosen(sentences, links["state"])


def suggested(links: pd.DataFrame) -> pd.Series:
    """Links: links (pages that link to the page now), shown (impressions of the page), readers (of the page that is to link, relative to the
    mean page).
    """
    count = links["links"].astype(int)
    sentence = say.joined("Only ", say.plural(count, "page"), (count == 1).map({True: " links to it", False: " link to it"}))
    has = sentence.where(count > 0, "No page links to it")
    shown = say.joined(", although it has ", say.plural(links["shown"], "impression"), "; ")
    readers = links["readers"].map("{:.1f}".format)
    return say.joined(has, shown, "this related page has ", readers, " times the readers of the mean page.")


def anchors(table: pd.DataFrame) -> pd.Series:
    """What is unusual, empty for nothing. Table: flag (high: too uniform; silent: none describes the page), top_share, links, top,
    usual_share, query, missing (words of the query that no link contains).
    """
    alike = say.joined(
        say.share(table["top_share"]), " of ", say.plural(table["links"], "link"), ' have the anchor "', say.named(table["top"]), '"'
    )
    alike = say.joined(alike, "; ", say.share(table["usual_share"]), " is usual on this site.")
    mute = say.joined("None of ", say.plural(table["links"], "link"), " in the text of other pages describes it")
    searched = say.joined('; it is searched for "', say.named(table["query"]), '".').where(table["query"].fillna("").ne(""), ".")
    lack = say.joined('No link contains "', say.named(table["missing"]), '" from its query "', say.named(table["query"]), '".')
    rest = say.joined(mute, searched).where(table["flag"] == "silent", lack.where(table["missing"].fillna("").ne(""), ""))
    return alike.where(table["flag"] == "high", rest)
