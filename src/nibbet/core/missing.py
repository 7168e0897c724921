"""What more would tell: each absent source, column, grain or window, with the pages and clicks that it affects."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import pandas as pd

from nibbet.core.windows import Windows


@dataclass(frozen=True)
class _Gap:
    """Something absent: its name, what remains unsaid without it, the pages affected, and the export that fills it."""

    what: str
    bears_on: str
    pages: pd.Series
    export: str
    protects: bool = False


def missing_evidence(
    pages: pd.DataFrame, given: Mapping[str, set[str]], windows: Windows, *, protects: bool, needed: int, poor_clicks: int
) -> list[dict[str, Any]]:
    """What more would tell, first what protects pages from removal, then by affected clicks.

    Args:
        pages: the ledger: clicks, clicks_long, published, gone; one row per page.
        given: by kind of source, its columns; for search also the grains of its rows.
        protects: whether the settings protect any page; needed: days that must be covered before a page is removed;
            poor_clicks: clicks of the long window below which one may be.
    Returns:
        One dictionary each: what, because, pages, clicks (recent window), export.
    """
    living = ~pages["gone"]
    poor = living & (pages["clicks_long"] < poor_clicks)
    undated = living & pages["published"].isna()
    search, landings, crawl = (given.get(kind, set()) for kind in ("search", "landings", "crawl"))
    gaps: list[_Gap] = []

    def gap(absent: bool, what: str, bears_on: str, rows: pd.Series, export: str, *, guards: bool = False) -> None:
        if absent and rows.any():
            gaps.append(_Gap(what, bears_on, rows, export, guards))

    gap(
        "page" not in search and "pair" not in search,
        "pages of queries",
        "no page can be judged by its clicks",
        living,
        "search by page and query",
        guards=True,
    )
    year = f"at least {needed} days"
    gap(
        "sessions" not in landings,
        "visits",
        "no page is removed or judged by the behaviour of its visitors",
        living,
        "landings: page, channel, sessions, engaged sessions, conversions, over a year",
        guards=True,
    )
    gap(
        "sessions" in landings and windows.visit_days < needed,
        "visits over a year",
        f"visits cover only {windows.visit_days} days, so no page is removed",
        poor,
        f"landings over {year}",
        guards=True,
    )
    gap(
        "landings" in given and "conversions" not in landings and "revenue" not in landings,
        "conversions",
        "a page that sells without clicks from search looks like one that earns nothing",
        poor,
        "landings with a column of conversions or revenue",
        guards=True,
    )
    gap(
        "sessions" in landings and not {"channel", "medium"} & landings,
        "channels of visits",
        "visits from search are not separated from others",
        living,
        "landings by channel, or by source and medium",
    )
    gap(
        "backlinks" not in given,
        "backlinks",
        "a page with backlinks looks like one that nobody needs",
        poor,
        'backlinks: linking page, linked page; without, prune_needs = "one" in [verdicts] of nibbet.toml prunes all the same',
        guards=True,
    )
    gap(
        not protects and "protected" not in given.get("editorial", set()),
        "protected pages",
        "no pages are marked as protected",
        poor,
        '[protect] pages = ["/legal/*"] in nibbet.toml, or an editorial list with a column "protected"',
        guards=True,
    )
    gap(
        "crawl" not in given,
        "a crawl",
        "titles, status, canonicals and links of pages are unknown",
        living,
        "crawl: page, status, title, heading, canonical, noindex, links in and out",
    )
    for column, means in (("canonical", "pages that replace others"), ("noindex", "pages blocked from the index"), ("title", "the subjects of pages"), ("outlinks", "hubs that others need"), ("inlinks", "pages that nothing links to")):  # fmt: skip
        gap(
            "crawl" in given and column not in crawl and not (column.endswith("links") and "links" in given),
            f"{column.replace('inlinks', 'links in').replace('outlinks', 'links out')} in the crawl",
            f"{means} are unknown",
            living,
            f"crawl with a column for {column}",
            guards=column in ("canonical", "outlinks"),
        )
    gap(
        True,
        "dates of publication",
        "their age is unknown, so young pages are recognised only by their first day in search",
        undated,
        "the publication dates of these pages"
        if pages["published"].notna().any()
        else "crawl or editorial list with a column of first publication",
        guards=True,
    )
    gap(
        "pair" not in search and "page" in search,
        "queries of pages",
        "merges, strays, served topics and climbs by query are unknown",
        living,
        "search by page and query",
    )
    gap(
        not windows.is_daily,
        "days",
        "seasons, lasting trends and the last weeks of a fall are unknown",
        living,
        "search by day and page, over 16 months",
    )
    gap(
        windows.is_daily and not windows.has_daily_pairs and "pair" in search,
        "days of queries",
        "turn-taking of pages is unknown; merges require more overlap instead",
        living,
        "search by day, page and query",
    )
    gap(
        windows.has_reference and "pair" in search and "query" not in search and not windows.compares_queries,
        "queries of both windows",
        "changes are known for pages, but not for queries, topics and the brand",
        living,
        f"search by page and query over {windows.reference} and {windows.recent}",
    )
    gap(
        not windows.reference_known,
        "an earlier window",
        "changes and decay are unknown",
        living,
        "the same table over the same days a year earlier",
    )
    gap(
        max(windows.covered_days, windows.visit_days) < needed,
        "a whole year",
        "no page is removed: a season may be missing",
        poor,
        f"search over {year}",
        guards=True,
    )
    gap("demand" not in given, "searches by month", "demand is estimated from impressions", living, "demand: query, month, volume")
    gap(
        "results" not in given,
        "result snapshots",
        "the intents of queries are compared only by words and pages",
        living,
        "results: query, rank, address, title",
    )
    result = [
        {
            "what": g.what,
            "because": g.bears_on,
            "pages": int(g.pages.sum()),
            "clicks": int(pages.loc[g.pages, "clicks"].sum()),
            "export": g.export,
            "guards": g.protects,
        }
        for g in gaps
    ]
    return sorted(result, key=lambda one: (not one["guards"], -one["clicks"], -one["pages"]))
