"""Terminal output for one page, one query, a comparison or a verdict."""

from __future__ import annotations

import json
import sys
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import pandas as pd
from rich.table import Table
from rich.text import Text

from nibbet.core.tables import PARTS, records, rows_of
from nibbet.core.windows import NOT_OF_QUERIES
from nibbet.render.files import as_csv
from nibbet.render.safe import for_terminal, path_of

if TYPE_CHECKING:
    from nibbet.core.windows import Windows

from nibbet.render.terminal import TINT, as_json, cell_text, console, grid, show, show_windows

#: columns of a comparison on a terminal; CSV and JSON contain all
COMPARED = [
    "recent",
    "reference",
    "change",
    "change_share",
    "95% between",
    "real",
    "why",
    "by demand",
    "by rank",
    "by pull",
    "by access",
    "by untold",
    "by volume",
    "by rate",
    "impressions_change",
]
#: display of the cause of the change of a page; parts of other changes have their own names
REASONS = {
    "": "no cause to name",
    "new": "the page is new",
    "gone": "the page is gone",
    "moved": "its address moved",
    "redirected": "its address redirects to a page that is not shown for its queries",
    "blocked": "it is kept out of search",
    "untold": "nothing tells whether demand or rank",
}
#: figures of rules that neither work nor another month can change
FIXED = (
    "protected_or_hub outlinks pages_below earned_at_old_addresses page_of_a_list only_way_to main_way_to conversions_long revenue_long backlinks age_days".split()
)
MOST_LINES = 8
#: sources of visits listed for a page
MOST_SOURCES = 4


def show_changes(changes: pd.DataFrame, windows: Windows, losses: pd.DataFrame | None, *, top: int | None) -> None:
    """A comparison: one level as a table; all levels as the site, its sections, and the largest gains and losses of pages and queries."""
    out = console()
    kind = {"year": "the same days a year earlier", "before": "the preceding days", "range": "as requested"}[windows.reference_kind]
    whole = f"whole {windows.step}s, " if windows.step != "day" else ""
    out.print(Text(f"{windows.recent} against {windows.reference} ({kind}), {whole}scaled to equal length and weekdays", style="bold"))
    if changes.empty and windows.reference.start < windows.first:
        out.print(f"The data begin with {windows.first}, after these windows. Choose shorter ones, such as: --recent 14 --against before")
        return
    if changes.empty and not windows.compares_queries:
        out.print(f"{NOT_OF_QUERIES} For pages: nibbet compare --by page")
        return
    if changes.empty:
        out.print("Nothing to compare. Loosen --where, or choose another level with --by.")
        return
    if not windows.are_counted_alike:
        out.print(
            f"Impressions are counted differently since {windows.counted_since}: of changes since before it, clicks alone are comparable."
        )
    clicks = changes[changes["measure"] == "clicks"]
    if losses is None:
        for (level, counted), rows in changes.groupby(["level", changes["measure"] == "clicks"], sort=False):
            out.print()
            out.print(Text(f"{level}" if counted or level in ("channel", "source") else f"{level}: from click to conversion", style="bold"))
            out.print(_compared_grid(rows) if counted else _chain_grid(rows))
        return
    out.print(Text(told_change(next(iter(records(clicks[clicks["level"] == "site"])), None))))
    chain = changes[(changes["level"] == "site") & (changes["measure"] != "clicks")]
    if len(chain):
        out.print()
        out.print(_chain_grid(chain))
    most = top or MOST_LINES
    moved = clicks["why"].eq("moved") & clicks["level"].eq("page")  # listed beside their old addresses
    shown = clicks[(clicks["level"] == "page") & ~moved].dropna(subset=["impressions_change"])
    by_impressions = shown.loc[shown["impressions_change"].abs().sort_values(ascending=False, kind="stable").index]
    parts = [("Sections", clicks[clicks["level"] == "section"]), ("Groups", clicks[clicks["level"].isin(["group", "query group"])])]
    for level in ("page", "query"):
        rows = clicks[(clicks["level"] == level) & ~moved]
        unit = "pages" if level == "page" else "queries"
        parts += [
            (f"{unit.title()} that lost most", rows[rows["change"] < 0]),
            (f"{unit.title()} that gained most", rows[rows["change"] > 0]),
        ]
    parts += [
        ("Pages that moved, compared with their old addresses", clicks[clicks["level"] == "moved page"]),
        ("Pages whose impressions changed most", by_impressions),
    ]
    for title, rows in parts:
        if len(rows):
            real = int(rows["real"].sum())
            more = f" ({len(rows):,}, {real:,} of them real)"
            out.print()
            out.print(Text(title + more, style="bold"))
            out.print(_compared_grid(rows.head(most)))
    if len(losses):
        out.print()
        out.print(Text(f"Queries that lose together ({len(losses)} pages)", style="bold"))
        out.print(grid(_readable(losses.head(most), ["subject", "page", "queries", "recent", "reference", "change", "95% between", "why"])))
    out.print()
    out.print(
        Text(
            "real: beyond noise, season and 10% either way, at a false discovery rate of 5%. demand: number of searches; rank: position, and how many of the searches show the page; pull: CTR at the same position; access: pages that appeared or disappeared.",
            style="dim",
        )
    )


def told_change(row: Mapping[str, Any] | None) -> str:
    """A change in one sentence; `row` is one of the table of changes."""
    if row is None:
        return "No clicks to compare."
    share = "" if pd.isna(row["change_share"]) else f" ({row['change_share']:+.1%})"
    low, high = row["change_low"], row["change_high"]
    season = f"; the season alone explains {row['season']:+,.0f}" if abs(row["season"]) >= 1 else ""
    taken_over = row["why"] == "moved" and row["access"] > 0
    access = "taken over from its old addresses" if taken_over else "pages that appeared or disappeared"
    more = "".join(
        f", {words} {row[name]:+,.0f}" for name, words in (("access", access), ("untold", "demand or rank")) if abs(row[name]) >= 0.5
    )
    return (
        f"Clicks went from {row['reference']:,.0f} to {row['recent']:,.0f}: {row['change']:+,.0f}{share}, 95% between {low:+,.0f} and {high:+,.0f}. "
        f"Demand {row['demand']:+,.0f}, rank {row['rank']:+,.0f}, pull {row['pull']:+,.0f}{more}{season}."
    )


def _compared_grid(rows: pd.DataFrame) -> Table:
    return grid(_readable(rows, ["key", *COMPARED]))


def _chain_grid(rows: pd.DataFrame) -> Table:
    return grid(_readable(rows, ["key", "measure", *COMPARED]))


def _readable(rows: pd.DataFrame, names: list[str]) -> pd.DataFrame:
    """The named columns that are not empty, counts as whole numbers, and the interval in one cell."""
    table = rows.rename(columns={part: f"by {part}" for part in (*PARTS, "volume", "rate")})
    counts = [name for name in map(str, table) if name in ("recent", "reference", "change", "impressions_change") or name.startswith("by ")]
    table = table.assign(**{name: table[name].round().astype("Int64") for name in counts})
    ends = [table[name].map("{:+,.0f}".format) for name in ("change_low", "change_high")]
    table["95% between"] = ends[0] + " to " + ends[1]
    empty = [name for name in ("by untold", "by access") if name in table and not table[name].fillna(0).abs().gt(0).any()]
    table = table[[name for name in names if name in table and name not in empty and table[name].notna().any()]]
    level = rows["level"].iloc[0] if "level" in rows else ""
    return table.rename(columns={"key": level.removeprefix("with ").removeprefix("query ").removeprefix("moved ") or "key"})


def show_reasoning(reasons: pd.DataFrame, verdict: pd.DataFrame, style: str) -> None:
    """Why a page has its verdict: the verdict, every rule with its figures, and how far the other rules are from holding."""
    if style != "table":
        show(reasons, style)
        return
    out, row = console(), verdict.iloc[0]
    out.print(Text(for_terminal(row["page"]), style="bold"))
    verdict_text = row["verdict"] if isinstance(row["verdict"], str) else "no verdict: the address is an error or redirects"
    out.print(Text.assemble((verdict_text, TINT.get(verdict_text, "")), f"  {row['cause'] if isinstance(row['cause'], str) else ''}"))
    if isinstance(row["because"], str):
        out.print(Text(for_terminal(row["because"])))
    out.print()
    shown = reasons.assign(passed=reasons["passed"].map({True: "yes", False: "no"}).fillna(""))
    shown["rule"] = shown["rule"].where(~shown["rule"].duplicated(), "")
    out.print(grid(shown))
    failed = reasons[reasons["passed"].eq(False).fillna(False)]
    missing = failed.groupby("rule", sort=False)["measure"].size()
    lone = failed[failed["rule"].map(missing) == 1]
    near = lone.loc[~lone["measure"].isin(FIXED) & ~lone["rule"].str.startswith("watch"), "rule"]
    spoken = [rule for rule in reasons["rule"].unique() if rule not in set(missing.index)]
    out.print()
    out.print(
        Text(
            f"Rules that speak: {'; '.join(spoken) or 'none, so it is kept'}. The first of watch, prune and consolidate wins; then the larger low gain."
        )
    )
    for rule in near:
        one = failed[failed["rule"] == rule].iloc[0]
        value = cell_text(one["value"], "value") or "unknown"
        out.print(Text(for_terminal(f"One figure away from {rule}: {one['measure']} is {value}, required is {one['threshold']}.")))


def aside_sentence(rows: pd.DataFrame) -> str:
    """How many queries belong to no topic, and why; "" for none. rows: reason, queries."""
    if rows.empty:
        return ""
    ordered = rows.sort_values(["queries", "reason"], ascending=[False, True])
    parts = ", ".join(f"{row.queries:,} {for_terminal(str(row.reason))}" for row in rows_of(ordered))
    return f"{rows['queries'].sum():,} queries belong to no topic: {parts}. Rules of your own: [topics] aside in nibbet.toml."


def show_between(result: dict[str, Any]) -> None:
    """Whether two queries need one page or two, and why."""
    out = console()
    out.print(Text.assemble((result["answer"], "bold"), f"  {for_terminal(result['because'])}"))
    for side in ("one", "other"):
        out.print(Text(for_terminal(f'  "{result[side]}" is of the topic "{result[f"topic_of_{side}"]}"')))
    for name in ("results", "questions", "pages", "words"):
        share = result[f"shared_{name}"]
        out.print(f"  {name} in common: {'unknown' if share is None or pd.isna(share) else f'{share:.0%}'}")


def show_query(rows: pd.DataFrame, topics: pd.DataFrame, style: str) -> None:
    """One query: its totals, its owner, and its pages. `topics`: the row of its topic, if it has one."""
    if style != "table":
        show(rows, style)
        return
    out, text = console(), str(rows["query"].iloc[0])
    out.print(Text(for_terminal(text), style="bold"))
    clicks, impressions = rows["clicks"].sum(), rows["impressions"].sum()
    known = rows.loc[rows["position"].notna(), "impressions"].sum()
    place = (rows["position"] * rows["impressions"]).sum() / known if known else float("nan")
    totals = f"{clicks:,.0f} clicks, {impressions:,.0f} impressions" + ("" if pd.isna(place) else f" at position {place:.1f}")
    out.print(Text(f"{totals}{', a brand query' if rows['brand'].any() else ''}"))
    owner, rivals = rows[rows["role"] == "owner"], rows[rows["role"] == "rival"]
    if len(owner):
        others = (
            f"; {', '.join(path_of(page) for page in rivals['page'])} compete for it"
            if len(rivals) > 1
            else f"; {path_of(rivals['page'].iloc[0])} competes for it"
            if len(rivals)
            else ""
        )
        out.print(Text(for_terminal(f"{path_of(owner['page'].iloc[0])} answers it{others}.")))
    elif rows["page"].notna().any():
        out.print(Text(for_terminal(f"No page answers it; {path_of(rows['page'].dropna().iloc[0])} is shown for it.")))
    else:
        out.print(Text("No row names its pages."))
    for topic in topics.to_dict("records"):
        ask = {
            "extend": "extend the page",
            "new page": "write a new page",
            "translate": "translate the page",
            "restore": "restore the page",
        }.get(topic["proposal"], "pages unknown" if topic["served"] == "unknown" else topic["served"])
        out.print(Text(for_terminal(f'Topic "{topic["label"]}", {topic["queries"]:,} queries: {ask}. {topic["because"]}')))
    out.print()
    columns = ["page", "role", "clicks", "impressions", "position", "pull", "answer", "share_clicks", "share_impressions", "days"]
    out.print(grid(rows[columns]))


def show_page(facts: dict[str, Any], style: str) -> None:
    """One page: its verdict and sentence, its measures, its queries, its evidence."""
    if style == "json":
        whole = {
            "page": json.loads(pd.DataFrame([facts["page"]]).to_json(orient="records", date_format="iso"))[0],
            "windows": {name: facts["windows"][name] for name in ("recent", "reference", "long")},
            "change": json.loads(as_json(pd.DataFrame(facts["change"]))),
            "trend": json.loads(as_json(pd.DataFrame(facts["trend"]))),
            "title_change": json.loads(as_json(pd.DataFrame(facts["title_change"]))),
            "repairs": json.loads(as_json(pd.DataFrame(facts["repairs"]))),
            "visits": json.loads(as_json(facts["visits"])),
            "events": json.loads(as_json(facts["events"])),
            "queries": json.loads(as_json(facts["queries"])),
            "evidence": json.loads(as_json(facts["evidence"])),
        }
        sys.stdout.write(json.dumps(whole, indent=1, ensure_ascii=False) + "\n")
        return
    if style == "csv":
        sys.stdout.write(as_csv(pd.DataFrame([facts["page"]])))
        return
    page, out = facts["page"], console()
    out.print(Text(for_terminal(page["page"]), style="bold"))
    if page["title"]:
        out.print(Text(for_terminal(str(page["title"])), style="dim"))
    from nibbet.core.windows import Windows

    show_windows(Windows.from_dict(facts["windows"]))
    verdict = page["verdict"] or "no verdict: the address is an error or redirects"
    out.print(
        Text.assemble(
            (verdict, TINT.get(verdict, "")),
            f"  {page['cause'] or ''}",
            f"  confidence {page['confidence']}" if page["confidence"] else "",
        )
    )
    for line in (
        page["because"],
        f"Second best: {page['also']}" if page["also"] else None,
        f"Target: {page['target']}" if page["target"] else None,
    ):
        if line:
            out.print(Text(for_terminal(line)))
    for fault in facts["repairs"]:
        lead = f" Target: {fault['target']}" if fault["target"] else ""
        out.print(Text(for_terminal(f"Repair ({fault['repair']}): {fault['because']}{lead}"), style="yellow"))
    if not pd.isna(page["gain"]) and page["gain"]:
        out.print(Text(f"Gain {page['gain']:,.0f} clicks a month ({page['gain_low']:,.0f} to {page['gain_high']:,.0f})"))
    for line in history(facts):
        out.print(Text(line))
    out.print()
    out.print(_measures(page))
    if page["thin"]:
        out.print(Text("Thin: fewer than 3 expected clicks, so its rates, position and pull say little."))
    if len(facts["evidence"]):
        out.print()
        out.print(grid(facts["evidence"][["measure", "value", "threshold", "window", "source"]]))
    visits = facts["visits"][facts["visits"]["sessions"] > 0]
    if len(visits):
        out.print()
        named = ["source"] if visits["source"].ne("").any() else []
        counted = ["channel", *named, "sessions", "sessions_reference", "engagement_rate", "conversions"]
        out.print(Text(f"Visits ({visits['sessions'].sum():,.0f}), by source"))
        out.print(grid(visits.head(MOST_SOURCES)[counted].round({"sessions_reference": 0})))
    if len(events := facts["events"]):
        out.print()
        out.print(Text("Events per 100 sessions (usual: on similar pages)"))
        names = {"rate": "rate", "rate_low": "low", "rate_high": "high", "usual": "usual", "rate_reference": "before"}
        rates = events[list(names)].mul(100).rename(columns=names).map("{:.1f}".format).replace("nan", "")
        out.print(grid(pd.concat([events[["event", "count"]], rates, events["flag"]], axis=1)))
    out.print()
    queries = facts["queries"]
    if queries.empty:
        out.print("Its queries are unknown.")
    else:
        out.print(Text(f"Queries ({len(queries)}), by impressions"))
        topic = ["topic"] if queries["topic"].notna().any() else []
        out.print(grid(queries.head(15)[["query", "role", "clicks", "impressions", "position", "pull", "answer", "share_clicks", *topic]]))


def history(facts: dict[str, Any]) -> list[str]:
    """The change of a page and the development of its weeks, in sentences."""
    lines = []
    if facts["change"]:
        row = facts["change"][0]
        if row["recent"] + row["reference"] >= 1:
            why = REASONS.get(row["why"], f"mostly {row['why']}")
            real = "the change is real" if row["real"] else "among so many pages, a change of this size may be chance"
            lines.append(f"{told_change(row)} {why[0].upper()}{why[1:]}; {real}.")
    if facts["trend"]:
        row = facts["trend"][0]
        if row["real"]:
            depth = f"{abs(row['depth']):.0%} {'lost' if row['depth'] > 0 else 'won'}" if abs(row["depth"]) < 10 else "from next to nothing"
            lines.append(
                f"{row['kind'].capitalize()} since the week of {row['since']:%Y-%m-%d}: {row['before']:,.1f} clicks a week would be usual now, it has {row['after']:,.1f} ({depth})."
            )
        if row["life"] == "short-lived":
            lines.append("Short-lived: most of its clicks came in its first weeks.")
        if not pd.isna(row["start_rank"]):
            lines.append(f"Its start is better than that of {row['start_rank']:.0%} of this site's pages at {row['age_weeks']:.0f} weeks.")
    for row in facts["title_change"]:
        lines.append(for_terminal(f"{row['because']} Title before: {row['title_before'] or 'none known'}"))
    return lines


def _measures(page: dict[str, Any]) -> Table:
    table = Table(box=None, show_header=False, pad_edge=False, padding=(0, 3, 0, 0))
    rows = [
        [("clicks", "clicks"), ("reference", "clicks_reference"), ("long window", "clicks_long")],
        [("impressions", "impressions"), ("ctr", "ctr"), ("position", "position")],
        [("pull", "pull"), ("queries", "queries"), ("withheld", "withheld_share")],
        [("sessions", "sessions"), ("from search", "sessions_organic"), ("engaged", "engagement_rate")],
        [("conversions", "conversions"), ("revenue", "revenue"), ("backlinks", "backlinks")],
        [("status", "status"), ("words", "words"), ("published", "published")],
    ]
    for row in rows:
        table.add_row(
            *[
                part
                for label, name in row
                for part in (Text(label, style="dim"), Text(cell_text(page[name], name) or "unknown", justify="right"))
            ]
        )
    return table
