"""Links from other sites: linking hosts, new and lost links, and links to addresses that fail."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.join.address import hosts_of
from nibbet.core.wording import links as wording

HOSTS = "host links from_pages pages newest new lost failing visits".split()
FAULTS = "from_url page target anchor state first_seen status to because".split()
#: share of the links of the smaller of two exports that the other has too, from which they are the same list at two dates, not two parts
SAME = 0.2
#: a host that links to this share of all pages, and to so many, copies or lists the site: its links show of no page that it is needed
THROUGHOUT, LEAST_THROUGHOUT = 0.2, 20
#: days for which a link is new
NEW_DAYS = 90


def with_state(rows: pd.DataFrame, as_of: pd.Timestamp) -> pd.DataFrame:
    """Each link once, with is_lost (by its own day, or in an older export but not in the newest; null without an older export) and is_new (first seen in the last
    NEW_DAYS days).

    Args:
        rows: file (number), from_url, page (as linked), page_id, anchor, first_seen, lost (the day on which it was found lost), visits; one
            row per link and export.
    Returns:
        One row per from_url and page: the newest row of links in several exports. Exports are versions of one list when they share SAME of
        the links of the smaller one, and the newest has the newest first_seen, else is the last file; others are parts and are added up.
    """
    rows = rows.reset_index(drop=True)
    if rows.empty:
        return rows.assign(is_lost=pd.array([], dtype="boolean"), is_new=False)
    rank, version = _versions(rows)
    rows = rows.assign(rank=rows["file"].map(rank), version=rows["file"].map(version))
    newest = rows.groupby("version")["rank"].transform("max")
    keys = ["from_url", "page"]
    kept = rows.assign(now=rows["rank"] == newest).sort_values(["rank", *keys], kind="stable").drop_duplicates(keys, keep="last")
    there = rows.assign(now=rows["rank"] == newest).groupby(keys)["now"].max()
    now = there.reindex(pd.MultiIndex.from_frame(kept[keys])).to_numpy(bool)
    has_older = (kept["version"].map(rows.groupby("version")["rank"].nunique()) > 1).to_numpy(bool)
    fresh = (as_of - pd.to_datetime(kept["first_seen"])).dt.days <= NEW_DAYS
    lost = pd.array(~now, dtype="boolean")
    lost[~has_older] = pd.NA
    gone = kept["lost"].notna().to_numpy()
    lost[gone] = True
    return kept.assign(is_lost=lost, is_new=fresh & now & ~gone).drop(columns=["rank", "version", "now"]).reset_index(drop=True)


def _versions(rows: pd.DataFrame) -> tuple[dict[int, int], dict[int, int]]:
    """By file, its rank in time, and the export of which it is a version."""
    keys = rows["from_url"].astype("str") + "\n" + rows["page"].astype("str")
    files = sorted(rows["file"].unique())
    links_of = {file: set(keys[rows["file"] == file]) for file in files}
    last = pd.to_datetime(rows["first_seen"]).groupby(rows["file"]).max()
    order = sorted(files, key=lambda file: (last[file] if pd.notna(last[file]) else pd.Timestamp.min, file))
    version = {file: file for file in files}
    for number, file in enumerate(order):  # there are few exports
        for other in order[:number]:
            if len(links_of[file] & links_of[other]) >= SAME * max(min(len(links_of[file]), len(links_of[other])), 1):
                old = version[other]
                version = {one: version[file] if of == old else of for one, of in version.items()}
    return {file: number for number, file in enumerate(order)}, version


def from_throughout(links: pd.DataFrame, pages: int) -> pd.Series:
    """Whether each link comes from a host that links to pages throughout the site.

    Args:
        links: from_url, page_id; pages: the number of pages of the site.
    """
    host = hosts_of(links["from_url"])
    linked: pd.Series = links.groupby(host)["page_id"].nunique()
    return host.map(linked).fillna(0) >= max(LEAST_THROUGHOUT, THROUGHOUT * pages)


def linking_hosts(links: pd.DataFrame, host: pd.Series, fails: pd.Series) -> pd.DataFrame:
    """Linking hosts: HOSTS, by number of links.

    Args:
        links: from `with_state`; host: of the linking page; fails: whether the link leads to an address that fails.
    """
    now = ~links["is_lost"].fillna(False).astype(bool)
    table = links.assign(
        host=host, newest=pd.to_datetime(links["first_seen"]), from_page=links["from_url"].where(now), own=links["page_id"].where(now)
    )
    table = table.assign(
        links=now, new=links["is_new"], lost=links["is_lost"].astype("Int64"), failing=fails & now, visits=links["visits"].astype("Float64")
    )
    sums = table.groupby("host").agg(
        links=("links", "sum"), from_pages=("from_page", "nunique"), pages=("own", "nunique"), newest=("newest", "max"), new=("new", "sum"),
        failing=("failing", "sum"),
    )  # fmt: skip
    sums = sums.join(table.groupby("host")[["lost", "visits"]].sum(min_count=1))
    return sums.reset_index().sort_values(["links", "lost", "host"], ascending=[False, False, True], ignore_index=True)[HOSTS]


def link_faults(links: pd.DataFrame, pages: pd.DataFrame, ends: pd.Series) -> pd.DataFrame:
    """Lost links and links to addresses that fail or redirect: FAULTS with pages by number, failing ones on strong pages first.

    Args:
        links: from `with_state`; pages: page, status, gone, by number; ends: per page the address that should receive its visitors.
    Returns:
        state: failing, redirected, lost. to: the redirect target; null where no page replaces it.
    """
    number = links["page_id"]
    status = number.map(pages["status"]).astype("Float64").fillna(200)
    state = np.select([links["is_lost"].fillna(False).astype(bool), status >= 400, status >= 300], ["lost", "failing", "redirected"], "")
    table = links.assign(state=state, status=status.astype("Int64"), target=links["page"], to=number.map(ends))[state != ""]
    order = table["state"].map({"failing": 0, "lost": 1, "redirected": 2})
    table = table.assign(because=wording.backlink(table), order=order, page=table["page_id"])
    table = table.sort_values(["order", "page", "from_url"], ignore_index=True)
    result: pd.DataFrame = table.assign(to=table["to"].where(table["state"] != "lost"))[FAULTS]
    return result
