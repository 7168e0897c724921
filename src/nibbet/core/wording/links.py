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
    silent = say.joined(" gives no answer (", say.named(rows["silent"]), "); ")
    lead = say.joined(" answers ", status.astype("str").fillna(""), "; ").where(status.notna(), silent)
    ends = {
        "link straight to its end.": moved & mend.notna(),
        "its end is not known.": moved,
        "link to the page named.": mend.notna(),
        "name another source, or take the link out.": outside,
    }
    return shown + lead + pd.Series(np.select(list(ends.values()), list(ends), "take the link out: no page covers it."), index=rows.index)


def backlink(links: pd.DataFrame) -> pd.Series:
    """Links: state (failing, redirected, lost), status, to (the redirect target, or null)."""
    mend = links["to"].notna().map({True: "redirect it to the page named.", False: "no page takes its place."})
    sentences: dict[str, pd.Series | str] = {
        "failing": say.joined("Leads to an address that answers ", links["status"].astype("str"), "; ", mend),
        "redirected": "Leads to an address that redirects; ask for the new one where you can.",
        "lost": "Stood in an older export and not in the newest.",
    }
    return say.chosen(sentences, links["state"])


def suggested(links: pd.DataFrame) -> pd.Series:
    """Links: links (pages that link to the page now), shown (impressions of the page), readers (of the page that is to link, relative to the
    mean page).
    """
    count = links["links"].astype(int)
    sentence = say.joined("Only ", say.plural(count, "page"), (count == 1).map({True: " links to it", False: " link to it"}))
    has = sentence.where(count > 0, "No page links to it")
    shown = say.joined(", though it is shown ", say.count(links["shown"]), " times; ")
    readers = links["readers"].map("{:.1f}".format)
    return say.joined(has, shown, "this page is on a related subject and holds ", readers, " times the readers of the mean page.")


def anchors(table: pd.DataFrame) -> pd.Series:
    """What is unusual, empty for nothing. Table: flag (high: too uniform; silent: none describes the page), top_share, links, top,
    usual_share, query, missing (words of the query that no link contains).
    """
    alike = say.joined(say.share(table["top_share"]), " of ", say.plural(table["links"], "link"), ' say "', say.named(table["top"]), '"')
    alike = say.joined(alike, "; usual here is ", say.share(table["usual_share"]), ".")
    mute = say.joined("None of ", say.plural(table["links"], "link"), " in the text of other pages says what it is about")
    searched = say.joined('; it is searched for "', say.named(table["query"]), '".').where(table["query"].fillna("").ne(""), ".")
    lack = say.joined('No link says "', say.named(table["missing"]), '" of its query "', say.named(table["query"]), '".')
    rest = say.joined(mute, searched).where(table["flag"] == "silent", lack.where(table["missing"].fillna("").ne(""), ""))
    return alike.where(table["flag"] == "high", rest)
