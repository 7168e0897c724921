"""Answers to single questions on the terminal: groups of queries, rising queries, splits, titles."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import pandas as pd
from rich.text import Text

from nibbet.core.tables import records
from nibbet.render.safe import for_terminal

if TYPE_CHECKING:
    from nibbet.core.windows import Windows

from nibbet.render.terminal import console, grid, show, show_windows
from nibbet.render.views import told_change

#: the columns of a group of queries that a terminal has room for
GROUP_COLUMNS = [
    "group",
    "queries",
    "pages",
    "clicks",
    "impressions",
    "ctr",
    "position",
    "pull",
    "brand_share",
    "site_share",
    "change",
    "change_share",
]


def show_groups(groups: pd.DataFrame, style: str) -> None:
    """The named groups of queries."""
    empty = 'nibbet.toml names no groups of queries. Add:\n[groups.queries]\nrental = ["rental", "hire"]\nor look at one at once: nibbet query --like rental'
    show(groups, style, columns=GROUP_COLUMNS, empty=empty)


def _chance(row: Mapping[str, Any]) -> str:
    """What the interval of one change says about chance."""
    if row["real"]:
        return "It is real."
    if row["change_low"] > 0 or row["change_high"] < 0:
        return "It is more than chance, but may be small."
    return "Chance alone may explain it."


def show_group(group: dict[str, Any], windows: Windows, style: str, top: int) -> None:
    """A group of queries: its totals compared with all others, its change, its pages, and its queries, those that stand out first."""
    queries, pages = group["queries"], group["pages"]
    if style != "table":
        show(queries, style)
        return
    out, rates = console(), group["rates"]
    show_windows(windows)
    whole_site = rates.iloc[0]
    out.print(Text(for_terminal(f"{whole_site['group']}: {whole_site['queries']:,} queries, {whole_site['pages']:,} pages"), style="bold"))
    change = records(group["change"])
    if change:
        out.print(Text(f"{told_change(change[0])} {_chance(change[0])}"))
    out.print(grid(rates[GROUP_COLUMNS]))
    if pd.notna(whole_site["pull_low"]):
        pull_of_others = rates["pull"].iloc[1]
        others = f"; all other queries {pull_of_others:.2f}" if pd.notna(pull_of_others) else ""
        out.print(
            Text(f"Pull {whole_site['pull']:.2f} (95% between {whole_site['pull_low']:.2f} and {whole_site['pull_high']:.2f}){others}.")
        )
    odd = queries[queries["flag"] != ""]
    low, high = (odd["flag"] == "low").sum(), (odd["flag"] == "high").sum()
    summary = (
        f"{low} chosen less and {high} more than is usual in the group, each at its own position"
        if len(odd)
        else "none stands out in the group"
    )
    out.print()
    out.print(Text(f"Pages, most impressions first{f', {top} of {len(pages)}' if len(pages) > top else ''}", style="bold"))
    out.print(grid(pages.head(top)))
    out.print()
    out.print(Text(f"Queries: {summary}{f'; {top} of {len(queries)}' if len(queries) > top else ''}", style="bold"))
    first = queries.assign(odd=queries["flag"] == "").sort_values(["odd", "impressions"], ascending=[True, False], kind="stable")
    columns = ["query", "clicks", "impressions", "ctr", "position", "pull", *(["flag"] if len(odd) else [])]
    out.print(grid(first.head(top)[columns]))


def show_rising(rows: pd.DataFrame, windows: Windows, style: str, top: int) -> None:
    """New, rising and fading rows, one list each."""
    if style != "table":
        show(rows, style)
        return
    out = console()
    show_windows(windows)
    heads = {"new": "New: not shown before", "rising": "Rising beyond noise and season", "fading": "Fading beyond noise and season"}
    for kind, head in heads.items():
        part = rows[rows["kind"] == kind]
        more = f", the first {top} of {len(part):,}" if len(part) > top else ""
        out.print(Text(f"{head}{more}", style="bold"))
        columns = ["key", "impressions_reference", "impressions", "reference", "recent", "position", "page", "by"]
        named = {
            "key": "query" if rows.empty else str(rows["level"].iloc[0]),
            "impressions_reference": "impressions before",
            "reference": "clicks before",
        }
        if part.empty:
            out.print("  None beyond chance.")
        else:
            out.print(grid(part.head(top)[columns].rename(columns={**named, "recent": "clicks"})))
        out.print()


#: the columns of splits that a terminal has room for: of searches, and of visits
OF_SEARCH = ["value", "pages", "impressions", "clicks", "clicks_reference", "ctr", "position", "pull", "pull_beside"]
OF_VISITS = [
    "value",
    "sessions",
    "sessions_reference",
    "engagement_rate",
    "engagement_beside",
    "seconds_per_session",
    "conversions",
    "conversions_per_session",
]
ODD = {"pull": "chosen", "engagement": "engaged", "conversion": "converting"}


def show_splits(splits: pd.DataFrame, windows: Windows, style: str, top: int = 12) -> None:
    """Devices, countries, surfaces, channels and sources: one table each, and a sentence for each deviation."""
    if style != "table" or splits.empty:
        show(splits, style, empty="No source tells pages by device, country, surface, channel or source.")
        return
    out = console()
    show_windows(windows)
    whole = splits.round({"clicks_reference": 0, "sessions_reference": 0})
    for dimension, rows in whole.groupby("dimension", sort=False):
        for columns, counted in ((OF_SEARCH, "impressions"), (OF_VISITS, "sessions")):
            if rows[counted].notna().any():
                known = rows.dropna(subset=[counted])
                out.print(grid(known.head(top)[columns].rename(columns={"value": str(dimension)})))
                if len(known) > top:
                    out.print(Text(f"and {len(known) - top} more: --top {len(known)}", style="dim"))
        for row in records(rows):
            for name, word in ODD.items():
                if row[f"{name}_flag"]:
                    by, low, high = (row[f"{name}_{end}"] for end in ("beside", "low", "high"))
                    less = "less" if row[f"{name}_flag"] == "low" else "more"
                    sentence = f"{row['value']}: {word} {less} than the same pages elsewhere, {by:.2f} times as often (95% between {low:.2f} and {high:.2f})."
                    out.print(Text(for_terminal(f"  {sentence}")))
        out.print()
    out.print(
        Text(
            "pull_beside, engagement_beside: relative to the same pages in all other rows; 1.00 = equal. All rates and intervals: --format csv",
            style="dim",
        )
    )


NO_LINKS = "No link is broken or missing, as far as the sources tell: that takes a crawl and its links (nibbet crawl makes both)."


def show_links(broken: pd.DataFrame, missing: pd.DataFrame, style: str, top: int) -> None:
    """Links that lead to faults, by target, and missing links; in forms other than a table, only the missing ones."""
    if style != "table" or (broken.empty and missing.empty):
        show(missing, style, empty=NO_LINKS)
        return
    out = console()
    by_target = broken.groupby(["target", "status", "to"], as_index=False, dropna=False).agg(
        pages=("source", "nunique"), links=("links", "sum"), anchor=("anchor", "first"), first=("source", "first")
    )
    by_target = by_target.sort_values(["pages", "target"], ascending=[False, True], ignore_index=True)
    out.print(
        Text(f"Links to faults and detours: {len(broken):,}, to {len(by_target):,} addresses (each one: broken_links.csv)", style="bold")
    )
    if len(by_target):
        out.print(
            grid(
                by_target.head(top)[["target", "status", "pages", "anchor", "first", "to"]].rename(
                    columns={"first": "stands first on", "to": "link instead to"}
                )
            )
        )
    out.print()
    out.print(Text(f"Missing links: {len(missing):,}, to {missing['to'].nunique():,} pages", style="bold"))
    for page, rows in missing[missing["to"].isin(missing["to"].unique()[:top])].groupby("to", sort=False):
        first = records(rows.head(1))[0]
        gain = f", +{first['gain']:,.0f} clicks a month within reach" if first["gain"] >= 1 else ""
        count = "no page links" if first["links"] == 0 else f"{first['links']:,.0f} link{'s' if first['links'] > 1 else ''}"
        out.print(Text.assemble((for_terminal(str(page)), "bold"), f"  {count} to it, shown {first['shown']:,.0f} times{gain}"))
        for row in records(rows):
            words = f' with "{row["anchor"]}"' if row["anchor"] else ""
            out.print(Text(for_terminal(f"    from {row['from']}{words}")))
    if (more := missing["to"].nunique() - top) > 0:
        out.print(Text(f"and {more:,} pages more: --top N, or link_suggestions.csv", style="dim"))


def show_engagement(stays: pd.DataFrame, events: pd.DataFrame, style: str, top: int) -> None:
    """Pages with higher and lower engagement than similar pages, then events that stand out; in forms other than a table, all rows."""
    if style != "table" or (stays.empty and events.empty):
        show(stays, style, empty="No source tells of visits. Add one of kind landings: page, channel, sessions, engaged sessions.")
        return
    out = console()
    stays = stays.assign(visitors=(stays["engagement_rate"] - stays["engagement_usual"]) * stays["sessions"])
    for flag, title in (("low", "To improve: visitors leave sooner than on pages like it"), ("high", "To praise: visitors stay more")):
        rows = stays[stays["flag"] == flag].sort_values(["visitors", "page"], ascending=[flag == "low", True])
        out.print(Text(f"{title}: {len(rows):,}" if len(rows) else f"{title}: none beyond chance", style="bold"))
        if len(rows):
            shown = [
                "page",
                "channel",
                "sessions",
                "engagement_rate",
                "engagement_usual",
                "seconds_per_session",
                "seconds_usual",
                "conversions",
            ]
            out.print(grid(rows.head(top)[shown]))
        out.print()
    if events.empty:
        out.print(Text("No source has events in these days: add one of kind events (page, event, count).", style="dim"))
        return
    sums = events.groupby("event", sort=False).agg(
        count=("count", "sum"), pages=("count", lambda c: int((c > 0).sum())), odd=("flag", lambda f: int((f != "").sum()))
    )
    out.print(Text("Events: the pages with each, and pages that stand out", style="bold"))
    out.print(grid(sums.reset_index().rename(columns={"odd": "stand out"})))
    odd = events[events["flag"] != ""].assign(far=lambda t: (t["rate"] - t["usual"]).abs() * t["sessions"])
    for row in records(odd.sort_values(["far", "page"], ascending=[False, True]).head(2 * top)):
        out.print(Text(for_terminal(f"{row['page']}  {row['flag']}")))
        out.print(Text(for_terminal(f"    {row['because']}"), style="dim"))


def show_absent(rows: pd.DataFrame, style: str, top: int) -> None:
    """Pages that matter but that search hardly shows, by cause and importance; `top` of each."""
    if style != "table" or rows.empty:
        show(rows, style, empty="No page that matters is absent from search, as far as the sources tell.")
        return
    out = console()
    from nibbet.core.absent import CAUSES  # cached results are printed without loading large libraries

    out.print(Text(f"Pages that matter and that search hardly shows: {len(rows):,}", style="bold"))
    counted = rows.groupby("cause", sort=False).size()
    for cause in [name for name in CAUSES if name in counted.index]:
        of = rows[rows["cause"] == cause]
        out.print()
        out.print(Text.assemble((f"{cause.replace('_', ' ')}: {len(of):,}", "bold"), f"  {CAUSES[cause]}"))
        for row in records(of.head(top)):
            out.print(Text(for_terminal(str(row["page"]))))
            out.print(Text(for_terminal(f"    {row['because']}"), style="dim"))
        if len(of) > top:
            out.print(Text(f"and {len(of) - top:,} more: --top N, or absent.csv", style="dim"))


def show_calendar(rows: pd.DataFrame, seasons: pd.DataFrame, windows: Windows, style: str, top: int) -> None:
    """Lives of pages and topics, coming seasons, and what fades or is over; in forms other than a table, all lives."""
    if style != "table" or rows.empty:
        show(rows, style, empty="Nothing can be told: that takes search rows by day or week, over a year and more.")
        return
    out = console()
    out.print(grid(rows.groupby(["level", "life"]).agg(count=("key", "size"), clicks=("clicks", "sum")).reset_index()))
    out.print()
    shown = ["ready_by", "begins", "peak", "height", "level", "key"]
    sections = seasons[(seasons["level"] == "section") & seasons["peak"].notna()]
    with_season = rows[(rows["life"] == "seasonal") & (rows["season"] == "own")]
    coming = pd.concat([part for part in (sections[shown], with_season[shown]) if len(part)] or [with_season[shown]], ignore_index=True)
    late = pd.to_datetime(coming["ready_by"]) <= pd.Timestamp(windows.as_of)
    for title, part in (("To be ready for", coming[~late]), ("In season, or too late to prepare", coming[late])):
        out.print(Text(f"{title}: {len(part):,} sections, and pages and topics with a season of their own", style="bold"))
        if len(part):
            out.print(grid(part.sort_values(["ready_by", "height"], ascending=[True, False]).head(top)))
        out.print()
    for life in ("fading", "event over", "one peak"):
        some = rows[rows["life"] == life]
        if len(some):
            out.print(Text(f"{life}: {len(some):,}", style="bold"))
            out.print(grid(some.head(top)[["level", "key", "clicks", "because"]]))
            out.print()


def show_markets(rows: pd.DataFrame, windows: Windows, style: str, top: int) -> None:
    """Countries and languages by worth, without empty columns; in forms other than a table, all of them."""
    if style != "table" or rows.empty:
        show(rows, style, empty="No source tells of countries, and no query is in another language than the site's.")
        return
    show_windows(windows)
    console().print(grid(rows.assign(country=rows["country"].mask(rows["country"] == "")).head(top).dropna(axis=1, how="all")))


#: measures of popularity in words, with their figure
LIKED = {
    "views": ("Most viewed", "sessions, or clicks where no source tells of visits"),
    "kept": ("Best kept", "seconds a visitor stays"),
    "earning": ("Most earning", "money, or conversions where none is told"),
}


def show_popular(rows: pd.DataFrame, common: pd.DataFrame, ideas: pd.DataFrame, windows: Windows, style: str, top: int) -> None:
    """The first pages of the site by each measure, common traits of popular pages, and ideas; in forms other than a table, all first pages."""
    if style != "table" or rows.empty:
        show(rows, style, empty="No page was visited in the recent window.")
        return
    out = console()
    show_windows(windows)
    of_site = rows[rows["level"] == "site"] if rows["level"].eq("site").any() else rows
    for by, (title, unit) in LIKED.items():
        some = of_site[of_site["measure"] == by]
        if some.empty:
            continue
        out.print(Text(f"{title}: {unit}", style="bold"))
        columns = [
            "page",
            *(["key"] if some["key"].ne("").any() else []),
            "value",
            "share",
            *(["sessions"] if by != "views" else []),
            "usual",
        ]
        out.print(grid(some.head(top)[columns].dropna(axis=1, how="all")))
        for row in records(common[(common["measure"] == by) & common["real"].eq(True)].head(top)):
            shares = f"{row['top_with']:,} of {row['top_of']:,} have it, of the others {row['rest_with']:,} of {row['rest_of']:,}"
            out.print(Text(for_terminal(f"  {row['trait']}: {row['times']:.1f} times as often among them ({row['times_low']:.1f} to {row['times_high']:.1f}; {shares})"), style="dim"))  # fmt: skip
        out.print()
    out.print(
        Text(
            "usual: the median of its pages. Sections, kinds and groups: popular.csv. What the first fifth of a section has in common is told, not what made it popular.",
            style="dim",
        )
    )
    out.print()
    out.print(Text(f"Unanswered topics related to popular pages: {len(ideas):,} topics", style="bold"))
    for row in records(ideas.head(top)):
        gain = f", +{row['gain']:,.0f} clicks a month within reach" if (row["gain"] or 0) >= 1 else ""
        out.print(Text(for_terminal(f"{row['label']}  ({row['proposal']}{gain})")))
        out.print(Text(for_terminal(f"    {row['because']}"), style="dim"))
    if len(ideas) > top:
        out.print(Text(f"and {len(ideas) - top:,} more: --top N, or popular_ideas.csv", style="dim"))


def show_speed(rows: pd.DataFrame, cost: pd.DataFrame, style: str, top: int) -> None:
    """Pages by speed, poor ones first, and the cost of slowness; in forms other than a table, the pages."""
    if style != "table" or rows.empty:
        show(
            rows,
            style,
            empty="No source tells how fast pages are. Add one of kind vitals: page, form factor, the three web vitals, samples.",
        )
        return
    out, counts = console(), rows["rating"].value_counts()
    summary = ", ".join(f"{name} {counts.get(name, 0):,}" for name in ("poor", "middling", "good"))
    out.print(Text(f"Pages and form factors by speed (75th percentile of visits): {summary}", style="bold"))
    out.print(grid(rows.head(top).drop(columns="because")))
    for row in records(cost):
        verb = "fewer" if row["ratio"] < 1 else "more"
        sure = f"{abs(1 - row['ratio']):.0%} {verb} per session" if row["proven"] else "no difference is proven"
        text = f"{str(row['measure']).capitalize()} on its {row['pages']:,} poor pages, compared with others of their section: {sure} ({row['low']:.2f} to {row['high']:.2f} times)"
        out.print(Text(text))


def show_backlinks(hosts: pd.DataFrame, faults: pd.DataFrame, style: str, top: int) -> None:
    """Linking hosts, then lost and failing links; in forms other than a table, the latter."""
    if style != "table" or hosts.empty:
        show(faults, style, empty="No source tells of links from other sites. Add one of kind backlinks: linking page, linked page.")
        return
    out, sums = console(), hosts[["links", "new", "failing"]].sum().astype(int)
    lost = f"{hosts['lost'].sum():,} lost" if hosts["lost"].notna().any() else "no older export tells what is lost"
    title = f"Links from {len(hosts):,} hosts: {sums['links']:,}, {sums['new']:,} of them new, {sums['failing']:,} to addresses that fail; {lost}"
    out.print(Text(title, style="bold"))
    out.print(grid(hosts.head(top)))
    for state, mend in (("failing", "redirect them"), ("lost", "ask for them back"), ("redirected", "nothing is lost, but a step")):
        rows = faults[faults["state"] == state]
        if rows.empty:
            continue
        out.print()
        out.print(Text.assemble((f"{state}: {len(rows):,}", "bold"), f"  {mend}"))
        out.print(grid(rows.head(top)[["from_url", "target", "to"] if state != "lost" else ["from_url", "target", "first_seen"]]))


def show_hosts(hosts: pd.DataFrame, topic: str | None, style: str, top: int) -> None:
    """Hosts over all queries and the topics without the site; or those of one topic."""
    if style != "table" or hosts.empty:
        show(hosts, style, empty="No result snapshot shows hosts. Add a source of kind results: query, rank, address, title.")
        return
    out = console()
    columns = ["host", "queries", "query_share", "top3", "rank", "share", "share_before", "form"]
    whole = hosts[hosts["level"] == "all"] if topic is None else hosts
    out.print(Text("All queries with a snapshot" if topic is None else f"Topic {topic}", style="bold"))
    first = whole.index.isin(whole.head(top).index)
    out.print(grid(whole[first | whole["own"]][columns].dropna(axis=1, how="all")))
    if topic is not None:
        return
    topics = hosts[hosts["level"] == "topic"]
    absent, count = topics[topics["own_share"] == 0].drop_duplicates("key"), topics["key"].nunique()
    out.print()
    out.print(Text(f"Absent in {len(absent):,} of {count:,} topics with a snapshot; the most searched:", style="bold"))
    if len(absent):
        named = (
            absent.head(top)[["key", "searches", "host", "share", "url"]]
            .round({"searches": 0})
            .rename(columns={"key": "topic", "host": "most seen"})
        )
        out.print(grid(named))
    out.print(Text("share: part of the expected clicks of these results, by position and searches. One topic: --topic TOPIC", style="dim"))


def show_titles(advice: pd.DataFrame, effects: pd.DataFrame, windows: Windows, style: str, top: int) -> None:
    """Effects of traits of titles on this site, and what to change first on which page."""
    if style != "table" or (advice.empty and effects.empty):
        show(advice, style, empty="No source tells the titles of pages: add a crawl inventory with a column of titles.")
        return
    out = console()
    show_windows(windows)
    known = effects[effects["effect"].notna()]
    out.print(Text("Effects of titles on this site: CTR of such pages relative to others at the same position", style="bold"))
    if known.empty:
        out.print("  No trait has five pages with and five without it.")
    else:
        table = known.assign(
            between=[f"{low:.2f} to {high:.2f}" for low, high in zip(known["effect_low"], known["effect_high"], strict=True)]
        )
        out.print(grid(table[["trait", "pages", "pages_without", "effect", "between", "real"]].rename(columns={"between": "95% between"})))
    for row in records(effects[effects["effect"].isna() & (effects["pages"] > 0)]):
        out.print(
            Text(f"  {row['trait']}: {row['pages']:,} pages with, {row['pages_without']:,} without it; too few to measure", style="dim")
        )
    out.print()
    proven = int(advice["proven"].sum())
    out.print(
        Text(f"Change first ({len(advice):,} pages with a fault; for {proven:,} of them the cost is proven on this site)", style="bold")
    )
    if proven:
        out.print(Text("Gains are what the proven traits cost on average; the verdict of a page counts its whole deficit.", style="dim"))
    for row in records(advice.head(top)):
        gain = f"  +{row['gain']:,.0f} clicks a month ({row['gain_low']:,.0f} to {row['gain_high']:,.0f})" if row["proven"] else ""
        pull = "" if pd.isna(row["pull"]) else f"  pull {row['pull']:.2f} at position {row['position']:.1f}"
        out.print(Text.assemble((for_terminal(row["page"]), "bold"), f"  {row['clicks']:,.0f} clicks{pull}{gain}"))
        out.print(Text(for_terminal(f"    {row['title'] or 'no title'}"), style="dim"))
        others = [name for name in row["traits"].split("; ") if name != row["change_first"]]
        also = f" Also: {', '.join(others)}." if others else ""
        fact = row["because"].partition(". ")[0] + "." if row["proven"] else row["because"]  # the effect of the trait is shown above
        out.print(Text(for_terminal(f"    {fact} {row['mend'][:1].upper()}{row['mend'][1:]}.{also}")))
    if len(advice) > top:
        out.print(Text(f"and {len(advice) - top:,} more: --top {len(advice)}, or titles.csv", style="dim"))


def show_title_changes(changes: pd.DataFrame, together: pd.DataFrame, style: str, top: int) -> None:
    """The combined effects of changed titles, and the effect on each page."""
    empty = (
        "No title changed between two inventories of known days. Add an older one to the newest, with the day in its name: "
        "crawl-2026-04-12.csv"
    )
    if style != "table" or changes.empty:
        show(changes, style, empty=empty)
        return
    out = console()
    out.print(Text("Effects of the changes: CTR after relative to before, at the same position", style="bold"))
    if together.empty:
        out.print("  Fewer than three changed pages have clicks enough on both sides to tell.")
    else:
        between = [f"{low:.2f} to {high:.2f}" for low, high in zip(together["effect_low"], together["effect_high"], strict=True)]
        out.print(grid(together.assign(**{"95% between": between})[["change", "pages", "effect", "95% between", "real"]]))
        if len(together) > 1:
            out.print(Text("Kinds of change that occurred on the same pages cannot be separated.", style="dim"))
    out.print()
    out.print(Text(f"Pages with another title or description ({len(changes):,})", style="bold"))
    for row in records(changes.head(top)):
        out.print(Text(for_terminal(row["page"]), style="bold"))
        if row["title_before"] and row["title_before"] != row["title"]:
            out.print(Text(for_terminal(f"    {row['title_before']}  ->  {row['title'] or 'no title'}"), style="dim"))
        out.print(Text(for_terminal(f"    {row['because']}")))
    if len(changes) > top:
        out.print(Text(f"and {len(changes) - top:,} more: --top {len(changes)}, or title_changes.csv", style="dim"))
