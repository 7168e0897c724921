"""The ledger: one row per page with all sources joined, from aggregated tables."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any
from urllib.parse import unquote

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core.backlinks import from_throughout
from nibbet.core.join.address import Home, hosts_of
from nibbet.core.notices import are_notices
from nibbet.core.pull import out_of_line, shrunk_pull, weighted_position
from nibbet.core.robots import disallowed
from nibbet.core.split import split
from nibbet.core.tables import PARTS, THIN_CLICKS, near_rows
from nibbet.core.trails import pages_above
from nibbet.core.windows import Windows

TEXTS = ("title", "h1", "headings", "description", "language")
#: requests of people that found no page since the last that found one, from which a page without a status in the inventory fails: one may
#: be a fault of the moment
FAILS = 2


def ledger(
    pages: pd.DataFrame,
    search: pd.DataFrame,
    visits: pd.DataFrame | None,
    inventory: pd.DataFrame | None,
    editorial: pd.DataFrame | None,
    backlinks: pd.DataFrame | None,
    *,
    windows: Windows,
    scale: float,
    protected: list[str],
    notices: bool = True,
    purposes: dict[str, list[str]] | None = None,
) -> pd.DataFrame:
    """One row per page, in the order of `pages`.

    Args:
        pages: page, path, section, in_search, in_landings, in_crawl, is_page (true if null or absent), indexed by page number.
        search, visits: sums per page and window (NAME_recent, NAME_reference, NAME_long), indexed by page number.
        inventory, editorial, backlinks: rows with page_id, or null where that source was not given.
        scale: the factor that makes reference clicks comparable with recent ones.
        protected: patterns of paths; notices: whether legal notices are protected too; purposes: purposes other than search -> patterns of paths.
    Returns:
        The measures of pages.csv; counts are 0 where their source was read but lacks the page, null where there is no such source.
    """
    table = pages.copy() if "is_page" in pages else pages.assign(is_page=True)
    result = search.reindex(pages.index)
    for name in ("clicks", "impressions"):
        table[name] = result[f"{name}_recent"].fillna(0).astype("int64")
        table[f"{name}_long"] = result[f"{name}_long"].fillna(0).astype("int64")
    table["clicks_last28"] = result["clicks_last28"].fillna(0)
    table["clicks_reference"] = result["clicks_reference"].fillna(0).astype("int64")
    table["ctr"] = table["clicks"] / table["impressions"].where(table["impressions"] > 0)
    table["position"] = weighted_position(result["position_sum_recent"], result["placed_recent"])
    table["position_reference"] = weighted_position(result["position_sum_reference"], result["placed_reference"])
    table["base"] = table["clicks_reference"] * scale
    table["reference_known"] = windows.reference_known and windows.reference.start >= windows.first
    table = _with_visits(table, visits, windows)
    table = _with_inventory(table, inventory)
    table = _with_links(table, backlinks)
    table = _with_dates(table, editorial, result["first_seen"], windows)
    table["title"] = table["title"].where(table["title"].notna(), _editorial_flag(editorial, "title").reindex(table.index).astype("str"))
    table["notice"] = are_notices(table) & notices
    table["protected"] = (
        matches(table["path"], protected) | _editorial_flag(editorial, "protected").reindex(table.index).eq(True) | table["notice"]
    )
    table["purpose"] = pd.Series(None, index=table.index, dtype="str")
    for name, patterns in (purposes or {}).items():
        table.loc[matches(table["path"], patterns), "purpose"] = name
    table["children"] = _children(table, inventory)
    table["in_list"] = _in_list(table["page"])
    return table


#: the part of an address that numbers the pages of a list; a parameter p may also be the number of an article
FURTHER = r"(?i)(?:[?&](?:page|pg|paged|seite|pagina|offset|start)=\d+(?=&|$)|/(?:page|seite|pagina|sida|side|strona)[/-]?\d{1,4}/?$)"


def _in_list(addresses: pd.Series) -> pd.Series:
    """Whether each page belongs to a list that runs over several addresses: its first page, if it is known, and those that continue it."""
    numbered = addresses[addresses.str.contains(FURTHER, regex=True)]
    first = numbered.str.replace(FURTHER, "", regex=True).str.replace(r"^([^?&]*)&", r"\1?", regex=True)
    whole, first = addresses.str.rstrip("/"), first.str.rstrip("/")
    known = first.isin(whole)
    return whole.isin(first) | pd.Series(addresses.index.isin(numbered.index[known]), index=addresses.index)


def _children(table: pd.DataFrame, inventory: pd.DataFrame | None) -> pd.Series:
    """Number of pages directly below each, by complete path segments or by breadcrumbs. Folders without a page of their own, such as the year
    and month of an article, are skipped.
    """
    whole = table["page"].str.rstrip("/")  # addresses of a site may end with or without a slash
    above = _folder(whole)  # the start page is its own
    for _ in range(int(whole.str.count("/").max()) if len(whole) else 0):
        missing = ~above.isin(whole)
        if not missing.any():
            break
        above = above.where(~missing, _folder(above))
    result = whole.map(above[above != whole].value_counts()).fillna(0)
    if inventory is not None and ("parent_page" in inventory or "trail" in inventory):
        named = named_above(table, inventory)
        elsewhere = named.notna() & (named.map(pd.Series(whole.to_numpy(), index=table["page"])) != above)
        result = result + table["page"].map(named[elsewhere].value_counts()).fillna(0)
    return result.astype("int64")


def _folder(addresses: pd.Series) -> pd.Series:
    """Addresses without their last path segment."""
    return addresses.str.replace(r"(?<=[^/])/[^/]*$", "", regex=True)


def named_above(table: pd.DataFrame, inventory: pd.DataFrame) -> pd.Series:
    """The address of the parent of each page by its breadcrumbs, which are links or words; null where it has none."""
    known = inventory.reindex(table.index)
    result = known["parent_page"] if "parent_page" in known else pd.Series(None, index=table.index, dtype="str")
    if "trail" not in known or known["trail"].isna().all():
        return result
    numbers = pages_above(known["trail"], [known[name] for name in ("h1", "title") if name in known])
    return result.fillna(numbers.map(table["page"]))


def _with_visits(table: pd.DataFrame, visits: pd.DataFrame | None, windows: Windows) -> pd.DataFrame:
    names = ("sessions", "engaged_sessions", "engagement_seconds", "conversions", "revenue", "sessions_organic", "engaged_organic")
    table["sessions_known"] = visits is not None and bool(visits["sessions_all"].notna().any())
    for name in names:
        for window, suffix in (("recent", ""), ("long", "_long")):
            unknown = visits is None or (window == "recent" and "recent" not in windows.visits_in)
            sums = None if unknown or visits is None else visits[f"{name}_{window}"]
            unknown = sums is None or bool(len(sums) and sums.isna().all())  # no table has the column
            value: Any = np.nan if unknown or sums is None else sums.reindex(table.index).fillna(0)
            table[name + suffix] = value if unknown or name in ("conversions", "revenue", "engagement_seconds") else value.astype("int64")
            if not unknown and name in ("conversions", "revenue", "engagement_seconds"):
                table[name + suffix] = value.astype(float)
    sessions = table["sessions"].where(table["sessions"] > 0) if visits is not None else np.nan
    table["engagement_rate"] = table["engaged_sessions"] / sessions
    table["seconds_per_session"] = table["engagement_seconds"] / sessions
    counted = (
        None if visits is None or "recent" not in windows.visits_in else visits["sessions_single_recent"].reindex(table.index).fillna(0)
    )
    alone = (
        np.nan
        if counted is None or visits is None
        else visits["single_page_sessions_recent"].reindex(table.index) / counted.where(counted > 0)
    )
    table["single_page_rate"] = pd.Series(alone, index=table.index, dtype="float64")
    return table


def _with_inventory(table: pd.DataFrame, inventory: pd.DataFrame | None) -> pd.DataFrame:
    rows = inventory.reindex(table.index) if inventory is not None else pd.DataFrame(index=table.index)
    for name in (*TEXTS, "status", "noindex", "words", "inlinks", "outlinks", "depth", "published", "modified"):
        table[name] = rows.get(name)
    table["status"] = pd.to_numeric(table["status"]).astype("Int64")
    for name in ("words", "inlinks", "outlinks", "depth"):
        table[name] = pd.to_numeric(table[name]).astype("Int64")
    elsewhere = rows["elsewhere"].eq(True) if "elsewhere" in rows else pd.Series(False, index=table.index)
    table["redirects_to"], table["canonical_to"] = rows.get("redirect_page"), rows.get("canonical_page")
    table["gone"] = (table["status"].fillna(200) >= 300) | elsewhere
    table["blocked"] = table["noindex"].eq(True) & ~table["gone"]
    live = (table["status"] == 200) & ~table["gone"] & ~table["blocked"]
    table["indexable"] = live.astype("boolean").mask(table["status"].isna())
    return table


#: days into the data after which the first appearance of a page is its birth, not the beginning of the export
NEW_DAYS = 42
#: what the former addresses of a page earned in the long window
MOVED = ("clicks", "sessions", "conversions", "backlinks")
#: impressions of the long window from which the first day in search dates a page: fewer appear by chance
BORN_IMPRESSIONS = 50
#: days by which search must have shown a page before its date of publication for that to be the date of a revision
REDATED_DAYS = 28
#: share of pages from which what a crawl says of them contradicts itself or search, and pages from which this is checked
MOST, LEAST_PAGES = 0.5, 8


def with_agents(inventory: pd.DataFrame, agents: Sequence[str]) -> pd.DataFrame:
    """The crawl, with noindex for pages that block one of these agents by name.

    inventory: noindex, noindex_for (names separated by commas) by page number.
    """
    if not agents or "noindex_for" not in inventory:
        return inventory
    names = "|".join(re.escape(agent.strip().lower()) for agent in agents)
    out = inventory["noindex_for"].str.lower().str.contains(rf"(?:^|, ?)(?:{names})(?:,|$)", regex=True).eq(True)
    return inventory.assign(noindex=inventory["noindex"].mask(out, True))


def named_robots(inventory: pd.DataFrame) -> pd.Series:
    """Number of pages that block each robot by name, in descending order; inventory: noindex_for."""
    names = inventory["noindex_for"].dropna().str.lower().str.split(r",\s*", regex=True).explode().str.strip()
    return names[names.ne("")].value_counts()


def with_sound_flags(inventory: pd.DataFrame, search: pd.DataFrame) -> tuple[pd.DataFrame, float]:
    """The crawl without its noindex flag where that contradicts search, and the share of pages shown that the flag would block (0 where it is
    sound).

    Args:
        inventory: noindex, status by page number; search: impressions_recent by page number. A page that is shown is in the index: if most
            of them are flagged, the flag is inverted, and its meaning is unknown.
    """
    shown = search.index[search["impressions_recent"] > 0]
    rows = inventory.reindex(inventory.index.intersection(shown))
    flags = rows.loc[rows["status"].fillna(200) == 200, "noindex"].dropna()
    share = float(flags.astype(bool).mean()) if len(flags) >= LEAST_PAGES else 0.0
    return (inventory.assign(noindex=None), share) if share > MOST else (inventory, 0.0)


def with_followed_links(inventory: pd.DataFrame) -> tuple[pd.DataFrame, int]:
    """The crawl without its numbers of internal links where most pages have none, and how many have none (0 where they are sound).

    Args:
        inventory: inlinks, status by page number. A crawl that follows links finds pages by them: one without links was given a list.
    """
    answers = inventory["status"].fillna(200) == 200 if "status" in inventory else pd.Series(True, index=inventory.index)
    counts = pd.to_numeric(inventory.loc[answers, "inlinks"]).dropna() if "inlinks" in inventory else pd.Series(dtype="float64")
    alone = int((counts == 0).sum())
    sound = len(counts) < LEAST_PAGES or alone <= MOST * len(counts)
    return (inventory, 0) if sound else (inventory.assign(inlinks=None), alone)


def is_partial(pages: pd.DataFrame) -> bool:
    """Whether the crawl lacks most of the pages that get clicks from search.

    pages: in_search, in_crawl, clicks_long, leads_to (old addresses need not be crawled).
    """
    clicked = pages["in_search"] & (pages["clicks_long"].fillna(0) > 0) & pages["leads_to"].isna()
    missing = clicked & ~pages["in_crawl"]
    return bool(pages["in_crawl"].any() and clicked.sum() >= LEAST_PAGES and missing.sum() > MOST * clicked.sum())


def _with_links(table: pd.DataFrame, backlinks: pd.DataFrame | None) -> pd.DataFrame:
    """backlinks, and backlinks_throughout: those from hosts that link throughout the site, which are not in the first."""
    if backlinks is None:
        unknown = pd.array([pd.NA] * len(table), dtype="Int64")
        return table.assign(backlinks_known=False, backlinks=unknown, backlinks_throughout=unknown)
    known = backlinks[backlinks["aside"].isna() & backlinks["lost"].isna() & backlinks["page_id"].notna()]
    known = known.drop_duplicates(["from_url", "page_id"])  # a link in several exports counts once
    throughout = from_throughout(known, int(table["is_page"].sum()) if "is_page" in table else len(table))
    counts = {"backlinks": known[~throughout], "backlinks_throughout": known[throughout]}
    sums = {name: rows.groupby("page_id").size().reindex(table.index).fillna(0).astype("Int64") for name, rows in counts.items()}
    return table.assign(backlinks_known=True, **sums)


def _with_dates(table: pd.DataFrame, editorial: pd.DataFrame | None, first_seen: pd.Series, windows: Windows) -> pd.DataFrame:
    """published from the editorial list, else the crawl. born falls back on the first day in search where that is well within the data, and
    equals that day where search showed the page REDATED_DAYS before publication: many systems date a page anew when it is rewritten. A day
    of `import_days` dates no page.
    """
    known = (
        editorial.dropna(subset=["page_id"]).drop_duplicates("page_id").set_index("page_id")["published"].reindex(table.index)
        if editorial is not None
        else None
    )
    crawled = pd.to_datetime(table["published"])
    table["published"] = pd.to_datetime(known).fillna(crawled) if known is not None else crawled
    table["modified"] = pd.to_datetime(table["modified"])
    seen = table["first_seen"] = pd.to_datetime(first_seen)
    fresh = seen.where(seen > pd.Timestamp(windows.first) + pd.Timedelta(days=NEW_DAYS))
    published = table["published"].where(~table["published"].dt.normalize().isin(import_days(table)))
    born = published.where(~(seen < published - pd.Timedelta(days=REDATED_DAYS)), seen)
    table["born"] = born.fillna(fresh.where(table["clicks_long"] + table["impressions_long"] > BORN_IMPRESSIONS))
    table["age_days"] = (pd.Timestamp(windows.as_of) - table["born"]).dt.days
    table["known_since"] = pd.concat([published, seen], axis=1).min(axis=1)
    return table


def import_days(pages: pd.DataFrame) -> pd.Series:
    """The days of publication that are those of an import: days of pages that search showed REDATED_DAYS earlier, where most pages are such.

    Args:
        pages: published, first_seen.
    """
    seen, published = pages["first_seen"], pages["published"]
    late = seen < published - pd.Timedelta(days=REDATED_DAYS)
    both = int((seen.notna() & published.notna()).sum())
    days: pd.Series = published[late].dt.normalize().drop_duplicates() if both >= LEAST_PAGES and late.sum() > MOST * both else published[:0]
    return days


def _editorial_flag(editorial: pd.DataFrame | None, name: str) -> pd.Series:
    if editorial is None:
        return pd.Series(dtype=bool)
    return editorial.dropna(subset=["page_id"]).drop_duplicates("page_id").set_index("page_id")[name]


def matches(paths: pd.Series, patterns: Sequence[str]) -> pd.Series:
    """Which paths match any of the patterns, ignoring letter case and percent-encoding.

    Args:
        patterns: paths or whole addresses in which * stands for any text; with or without a trailing slash. A pattern that ends with /*
            also matches the parent page.
    """
    if not patterns:
        return pd.Series(False, index=paths.index)
    escaped = paths.str.contains("%", regex=False)
    plain = paths.where(~escaped, paths[escaped].map(unquote)) if escaped.any() else paths
    return plain.str.match("|".join(map(_path_pattern, patterns)), flags=re.DOTALL | re.IGNORECASE)


def _path_pattern(pattern: str) -> str:
    path = unquote(re.sub(r"^(https?:)?//[^/]*", "", pattern.strip(), flags=re.IGNORECASE))
    if not path.startswith(("/", "*")):
        path = "/" + path
    end = "(?:/.*)?$" if path.endswith("/*") else "/?$" if not path.endswith("*") else "$"
    return "^" + ".*".join(map(re.escape, path.removesuffix("/*").rstrip("/").split("*"))) + end


def without_page(paths: pd.Series, patterns: Sequence[str]) -> list[str]:
    """The patterns that match no path."""
    return [pattern for pattern in patterns if not matches(paths, [pattern]).any()]


def with_others(
    table: pd.DataFrame,
    *,
    home: Home,
    sitemap: pd.DataFrame | None,
    robots: pd.DataFrame | None,
    hits: pd.DataFrame | None,
    links: pd.Series | None,
    outlinks: pd.Series | None,
    agents: Sequence[str] = (),
    as_of: pd.Timestamp,
    first: pd.Timestamp,
) -> pd.DataFrame:
    """The ledger with columns from smaller sources, null where there is no such source.

    status (that of the server log where there is no other, and requests fail); in_sitemap; robots_blocked (by robots.txt for search engines, the user agents in `agents`); hits (by people, long window); known_days
    (since the first sign of the page: its publication, a search row, an older date in the sitemap, a hit; null without any); inlinks and
    outlinks from the links where the crawl has none; leads_to (where the address redirects, or the same path of the home for a former host); moved_from
    (the former address of the page) and clicks_moved, sessions_moved, conversions_moved, backlinks_moved (what its former addresses had in the
    long window, shown beside those of the page and never added). A page
    without a date of publication is as old as the addresses that lead to it. first: the first day of the data.
    """
    known = pd.Series(table.index.isin(sitemap["page_id"].dropna()), index=table.index).astype("boolean") if sitemap is not None else pd.NA
    table["in_sitemap"] = known
    host = hosts_of(table["page"])
    ours = ~host.isin(home.apart)  # robots.txt applies only to its own host
    table["robots_blocked"] = (disallowed(table["path"], robots, agents) & ours).astype("boolean") if robots is not None else pd.NA
    table["hits"] = hits["hits"].reindex(table.index).fillna(0).astype("Int64") if hits is not None else pd.NA
    if hits is not None and (hits["hits"] > hits["fails"].fillna(0)).any():  # a list of failures alone says nothing of pages that live
        fails = (hits["fails"].reindex(table.index) >= FAILS).fillna(False).astype(bool) & table["status"].isna()
        table["status"] = table["status"].where(~fails, hits["fails_as"].reindex(table.index).astype("Int64"))
        table["gone"], table["indexable"] = table["gone"] | fails, table["indexable"].mask(fails, False)
    signs = [] if sitemap is None else [pd.to_datetime(sitemap.dropna(subset=["page_id"]).groupby("page_id")["modified"].min())]
    signs += [] if hits is None else [pd.to_datetime(hits["first"])]
    signs = [sign.reindex(table.index) for sign in signs]
    table["known_since"] = pd.concat([table["known_since"], *signs], axis=1).min(axis=1)
    if links is not None:
        table["inlinks"] = table["inlinks"].fillna(links.reindex(table.index).fillna(0).astype("Int64"))
    if outlinks is not None:
        table["outlinks"] = table["outlinks"].fillna(outlinks.reindex(table.index).astype("Int64"))
    elsewhere = host.isin(home.moved)
    same_path = home.root + table["page"].str.replace(r"^https?://[^/]+", "", regex=True)
    leads_to = table["redirects_to"].astype("object")
    leads_to = leads_to.where(leads_to.notna() | ~elsewhere, same_path)
    number = pd.Series(table.index, index=table["page"])
    table["leads_to"] = leads_to.where(table["redirects_to"].notna() | leads_to.isin(table["page"]), None)
    earned = table[["page", "clicks_long", "sessions_long", "conversions_long", "backlinks"]].set_axis(["page", *MOVED], axis=1)
    moved = earned.assign(to=leads_to.map(number)).dropna(subset=["to"])
    moved = moved[moved["to"] != moved.index].sort_values(["clicks", "page"], ascending=[False, True])
    table["moved_from"] = (
        moved.drop_duplicates("to").set_index("to")["page"].reindex(table.index).astype("object").where(lambda v: v.notna(), None)
    )
    for name, sums in moved.groupby("to")[list(MOVED)].sum(min_count=1).reindex(table.index).items():
        table[f"{name}_moved"] = sums.astype("Int64" if name == "clicks" else "Float64")
    table["gone"] = table["gone"] | elsewhere
    since = table["known_since"].reindex(moved.index).groupby(moved["to"]).min().reindex(table.index)
    moved_late = table["published"].isna() & (since < table["known_since"])
    table["born"] = table["born"].where(~moved_late, since.where(since > first + pd.Timedelta(days=NEW_DAYS)))
    table["known_since"] = table["known_since"].where(~moved_late, since)
    table["age_days"], table["known_days"] = ((as_of - table[name]).dt.days for name in ("born", "known_since"))
    return table


def with_ways(table: pd.DataFrame, links: pd.DataFrame | None, poor_clicks: float) -> pd.DataFrame:
    """The ledger with only_way and main_way: number of other living pages that earn for which this page has the only link, and number of
    living pages for which it has one of two; null without links.

    Args:
        links: source_id, target_id of links to pages with at most two linking pages; poor_clicks: clicks in the long window from which a
            page earns, if it has no conversions and no backlinks.
    """
    if links is None:
        return table.assign(**{name: pd.array([pd.NA] * len(table), dtype="Int64") for name in ("only_way", "main_way")})
    alive = ~table["gone"] & ~table["blocked"]
    earns = (table["clicks_long"].fillna(0) >= poor_clicks) | (table["conversions_long"].fillna(0) > 0) | (table["backlinks"].fillna(0) > 0)
    rows = links[links["source_id"].map(alive).eq(True) & links["target_id"].map(alive).eq(True)]
    alone = (rows.groupby("target_id")["source_id"].transform("size") == 1) & rows["target_id"].map(earns)
    counts = {"only_way": rows[alone], "main_way": rows}
    ways = {name: of.groupby("source_id").size().reindex(table.index).fillna(0).astype("Int64") for name, of in counts.items()}
    return table.assign(**ways)


def with_pull(table: pd.DataFrame, pairs: pd.DataFrame, answers: float) -> pd.DataFrame:
    """The ledger with queries (count), withheld_share (of impressions), pull, sums over the non-brand queries that it answers as their owner
    (NAME_answered; up to SECOND_PAGE, where it has any there), and over those of them that reflect its title (NAME_titled, see `core.pull.out_of_line`; clicks and expected also of
    the reference window, NAME_titled_reference; the others are counted in queries_apart), and the share of impressions that it answers.

    answers: threshold of answer from which a page answers a query.
    """
    page = pairs["page"].to_numpy()

    def of_pages(chosen: pd.Series | NDArray[np.bool_], name: str) -> pd.Series:
        sums = np.bincount(page, np.where(chosen, pairs[name], 0), minlength=len(table))  # pages are numbered from 0
        return pd.Series(sums, index=table.index)

    shown = (pairs["impressions"] > 0) & pairs["junk"].isna()
    plain = shown & ~pairs["brand"]
    meant = plain & (pairs["answer"] >= answers)
    answered = meant & pairs["role"].eq("owner")
    able = np.flatnonzero(answered)
    near = np.zeros(len(pairs), dtype=bool)
    near[able] = near_rows(pairs["position"].to_numpy(float)[able], page[able])
    answered &= near
    table["queries"] = np.bincount(page[shown], minlength=len(table))
    table["withheld_share"] = (
        1 - of_pages(pairs["impressions"] > 0, "impressions") / table["impressions"].where(table["impressions"] > 0)
    ).clip(0, 1)
    table["pull"] = shrunk_pull(*(of_pages(plain, name).to_numpy() for name in ("clicks", "expected_clicks")))
    rows = np.flatnonzero(answered)
    apart = np.zeros(len(pairs), dtype=bool)
    apart[rows] = out_of_line(page[rows], *(pairs[name].to_numpy(float)[rows] for name in ("clicks", "expected_clicks")))
    for kind, chosen in (("answered", answered), ("titled", answered & ~apart)):
        for name, measure in (("clicks", "clicks"), ("impressions", "impressions"), ("expected", "expected_clicks")):
            table[f"{name}_{kind}"] = of_pages(chosen, measure)
        table[f"position_{kind}"] = weighted_position(of_pages(chosen, "position_sum"), of_pages(chosen, "placed"))
    known = answered & ~apart & (pairs["expected_clicks_reference"] > 0)  # without a position, nothing is expected
    for name, measure in (("clicks", "clicks_reference"), ("expected", "expected_clicks_reference")):
        table[f"{name}_titled_reference"] = of_pages(known, measure)
    table["queries_apart"] = np.bincount(page[apart], minlength=len(table))
    shown_plain = of_pages(plain, "impressions")
    table["answered_share"] = of_pages(meant, "impressions") / shown_plain.where(shown_plain > 0)
    table["as_one"] = False
    return table


def judged_as_one(table: pd.DataFrame, pages: pd.DataFrame) -> pd.DataFrame:
    """The ledger of a site whose rows name no queries: each page is judged by its totals, as if it answered everything.

    Args:
        pages: page, clicks, impressions, expected_clicks, position, brand; one row a page. Columns that need queries stay null.
    """
    plain = pages[~pages["brand"]].set_index("page").reindex(table.index)
    sums = {
        f"{name}_{kind}": plain[measure].fillna(0)
        for name, measure in (("clicks", "clicks"), ("impressions", "impressions"), ("expected", "expected_clicks"))
        for kind in ("answered", "titled")
    }
    pull = shrunk_pull(plain["clicks"].fillna(0).to_numpy(float), plain["expected_clicks"].fillna(0).to_numpy(float))
    unknown = {"withheld_share": np.nan, "answered_share": np.nan, "queries": 0, "queries_apart": 0}
    unknown |= {"clicks_titled_reference": 0.0, "expected_titled_reference": 0.0}
    return table.assign(**sums, position_answered=plain["position"], position_titled=plain["position"], pull=pull, **unknown, as_one=True)


def parts_of_change(table: pd.DataFrame, pairs: pd.DataFrame, parts: pd.DataFrame, own: pd.DataFrame) -> pd.DataFrame:
    """The PARTS of the change of each page (pull as pull_part); thin: too few expected clicks for any rate; and position_both and
    position_both_reference: positions now and before of queries shown in both windows, weighted by their reference clicks (where there are
    none, by expected clicks). Indexed as the ledger.

    Args:
        table: the ledger: clicks, base, position, access, taken_over (see `core.split.split`), came (whether the page appeared or
            disappeared); pairs: page, query, expected_clicks, clicks_reference, position, position_reference;
            parts: their `core.split.row_parts`; own: the pairs by the addresses of their rows (page, expected_clicks).
    """
    expected = np.bincount(own["page"], own["expected_clicks"].to_numpy(float), len(table))  # pages are numbered from 0
    expected = np.where(table["position"].isna(), table["clicks"], expected)  # without a position, the expectation is the clicks themselves
    totals = pd.DataFrame({"page": table.index, "clicks_recent": table["clicks"].to_numpy(), "clicks_reference": table["base"].to_numpy()})
    result = split(parts, pairs["page"], totals.assign(came=table["came"].to_numpy(), taken_over=table["taken_over"].to_numpy()))
    places = pairs[["position", "position_reference"]]
    named = places.notna().all(axis=1) & pairs["query"].notna() & pairs["query"].ne("")
    weight = pairs["clicks_reference"].where(named, 0.0).to_numpy(float)
    brought = np.bincount(pairs["page"], weight, len(table))
    weight = np.where(brought[pairs["page"]] > 0, weight, parts["e0"].where(places.notna().all(axis=1), 0.0))
    whole = np.bincount(pairs["page"], weight, len(table))
    both = {
        f"position_both{suffix}": np.bincount(pairs["page"], weight * places[f"position{suffix}"].fillna(0.0).to_numpy(float), len(table))
        / np.where(whole > 0, whole, np.nan)
        for suffix in ("", "_reference")
    }
    return result[PARTS].set_axis(table.index).rename(columns={"pull": "pull_part"}).assign(thin=expected < THIN_CLICKS, **both)
