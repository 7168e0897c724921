"""The data of the report: its lists and the dossier of each page, as plain values for JSON."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from nibbet.core.tables import act_first, records
from nibbet.core.windows import whole_weeks
from nibbet.render.safe import page_name
from nibbet.render.terminal import cell_text
from nibbet.render.views import history

if TYPE_CHECKING:
    from nibbet.results import Results

#: limits: pages with a dossier, rows of other lists, queries of a page, and so on
MOST_PAGES, MOST_ROWS, MOST_QUERIES, MOST_SOURCES, MOST_HOSTS, MOST_CHANGES = 2000, 2000, 12, 8, 3, 200
#: field, title, kind, meaning, and whether it stays on a narrow screen, by list
LISTS: dict[str, list[tuple[str, str, str, str]]] = {
    "pages": [
        ("page", "page", "page", "Its path; opens the dossier"),
        ("verdict", "verdict", "text", "What to do with it"),
        ("gain", "gain", "whole", "Extra clicks a month if it is done"),
        ("clicks", "clicks", "whole", "Clicks in the recent window"),
        ("change", "change", "signed", "Clicks, recent minus reference"),
        ("position", "position", "tenth", "Mean position, weighted by impressions"),
        ("pull", "pull", "hundredth", "Clicks relative to the CTR curve of the site"),
        ("conversions", "conversions", "whole", "Conversions in the recent window, all channels"),
        ("section", "section", "text", "The first part of its path"),
        ("confidence", "sure", "text", "Confidence of the verdict"),
        ("because", "because", "text", "The reason, with its figures"),
    ],
    "topics": [
        ("label", "topic", "text", "Its most wanted query"),
        ("proposal", "proposal", "text", "What to do"),
        ("gain", "gain", "whole", "Clicks a month if it were answered"),
        ("volume", "volume", "whole", "Searches a month, or impressions where searches are unknown"),
        ("clicks", "clicks", "whole", "Clicks in the recent window"),
        ("position", "position", "tenth", "Mean position of the site"),
        ("served", "served", "text", "Whether a page answers it"),
        ("page", "page", "page", "The page that serves it or is shown for it"),
        ("queries", "queries", "whole", "Number of queries"),
        ("because", "because", "text", "The reason, with its figures"),
    ],
    "repairs": [
        ("page", "page", "page", "Where"),
        ("repair", "repair", "text", "What is wrong"),
        ("weight", "at stake", "whole", "Affected clicks or visits of the long window"),
        ("target", "target", "page", "Redirect or link target"),
        ("because", "because", "text", "The reason, with its figures"),
    ],
    "titles": [
        ("page", "page", "page", "Its path; opens the dossier"),
        ("change_first", "change first", "text", "What to change in title or description"),
        ("gain", "gain", "whole", "Clicks a month without the fault, where its cost is proven on this site"),
        ("clicks", "clicks", "whole", "Clicks in the recent window, without the brand and strays"),
        ("position", "position", "tenth", "Mean position, weighted by impressions"),
        ("pull", "pull", "hundredth", "Clicks relative to the CTR curve of the site"),
        ("title", "title", "text", "The current title"),
        ("because", "because", "text", "The reason, with its figures"),
    ],
    "title_changes": [
        ("page", "page", "page", "Its path; opens the dossier"),
        ("title_before", "before", "text", "The former title"),
        ("title", "now", "text", "The current title"),
        ("effect", "times", "hundredth", "CTR since the change relative to before, at the same position"),
        ("clicks_after", "clicks", "whole", "Clicks in the days after the change, without the brand"),
        ("real", "real", "text", "Beyond chance at 5% false discovery"),
        ("because", "because", "text", "The reason, with its figures"),
    ],
    "absent": [
        ("page", "page", "page", "Its path; opens the dossier"),
        ("cause", "cause", "text", "The first cause that holds"),
        (
            "importance",
            "importance",
            "whole",
            "How many of six things speak for it: editors, sitemap, navigation, visits, conversions, links",
        ),
        ("impressions", "impressions", "whole", "In the recent window"),
        ("sessions", "sessions", "whole", "All channels, recent window"),
        ("mend", "mend", "text", "What to do"),
        ("because", "because", "text", "The reason, with its figures"),
    ],
    "broken_links": [
        ("source", "on page", "page", "The page with the link"),
        ("target", "leads to", "page", "The address that fails or redirects"),
        ("status", "status", "text", "Its HTTP status"),
        ("anchor", "anchor", "text", "The words of the link"),
        ("place", "place", "text", "Part of the page with the link, if the source has it"),
        ("to", "link instead to", "page", "The address to link to"),
        ("clicks", "clicks", "whole", "Clicks of the page that links, long window"),
    ],
    "link_suggestions": [
        ("to", "link to", "page", "The page that lacks links"),
        ("from", "from", "page", "A related page with many readers"),
        ("anchor", "with the words", "text", "Its most searched query"),
        ("shown", "shown", "whole", "Impressions of the page in the long window"),
        ("links", "links now", "whole", "Pages of the site that link to it"),
        ("because", "because", "text", "The reason, with its figures"),
    ],
    "backlink_faults": [
        ("from_url", "on page", "text", "The linking page of the other site"),
        ("target", "leads to", "page", "The address that it links to"),
        ("state", "state", "text", "failing, redirected, or lost: in an older export and not in the newest"),
        ("first_seen", "first seen", "text", "Day on which the link was first seen"),
        ("to", "redirect to", "page", "Redirect target"),
        ("because", "because", "text", "The reason"),
    ],
    "hosts": [
        ("key", "topic", "text", "all, or the topic"),
        ("host", "host", "text", "Host of the results"),
        ("queries", "queries", "whole", "Queries that show it in the first ten"),
        ("rank", "place", "tenth", "Mean of its best place"),
        ("share", "share", "share", "Part of the expected clicks of the results"),
        ("own_share", "our share", "share", "The same for the hosts of the site"),
        ("searches", "searches", "whole", "Searches a month"),
    ],
    "queries": [
        ("query", "query", "text", "The query"),
        ("page", "page", "page", "The page shown most for it; opens the dossier"),
        ("clicks", "clicks", "whole", "Clicks in the recent window, over all pages"),
        ("impressions", "impressions", "whole", "Impressions in the recent window"),
        ("position", "position", "tenth", "Mean position, weighted by impressions"),
        ("ctr", "CTR", "share", "Clicks / impressions"),
        ("gain", "within reach", "whole", "Clicks a month of its opening"),
        ("topic", "topic", "text", "The queries that one page can answer together"),
    ],
    "changes": [
        ("level", "level", "text", "The level of the change"),
        ("key", "which", "page", "The section, topic, page, query ..."),
        ("recent", "recent", "whole", "Clicks in the recent window"),
        ("reference", "reference", "whole", "Clicks in the reference window, scaled to its length"),
        ("change", "change", "signed", "Recent minus reference"),
        ("real", "real", "text", "Beyond noise, season and 10% either way"),
        ("demand", "demand", "signed", "Part due to the number of searches"),
        ("rank", "rank", "signed", "Part due to the position"),
        ("pull", "pull", "signed", "Part due to CTR at the same position"),
        ("access", "access", "signed", "Part due to pages that appeared or disappeared"),
        ("impressions_change", "impressions", "signed", "Impressions, recent minus reference"),
        ("why", "why", "text", "The largest part"),
    ],
    "popular": [
        ("measure", "by", "text", "Most viewed, longest visited (seconds per visit), highest earning"),
        ("level", "of", "text", "The site, a section, a kind, a group"),
        ("key", "which", "text", "Which section, kind or group"),
        ("rank", "place", "whole", "Its place there"),
        ("page", "page", "page", "Its path; opens the dossier"),
        ("value", "value", "tenth", "Sessions, seconds, or earnings"),
        ("share", "share", "share", "Share of the section, kind or group"),
        ("usual", "usual", "tenth", "The median of its pages"),
    ],
    "popular_ideas": [
        ("label", "topic", "text", "Its most wanted query"),
        ("proposal", "proposal", "text", "What to do"),
        ("gain", "gain", "whole", "Clicks a month if it were answered"),
        ("volume", "volume", "whole", "Searches a month, or impressions where searches are unknown"),
        ("page", "related to", "page", "The related popular page"),
        ("because", "because", "text", "The reason, with its figures"),
    ],
    "redirects": [
        ("from", "from", "page", "The address that goes"),
        ("to", "to", "page", "Redirect target"),
        ("status", "status", "text", "301 moved, 410 gone"),
        ("because", "because", "text", "Why"),
    ],
}
GROW = {
    "source": 3,
    "query": 3,
    "topic": 2,
    "title": 3,
    "title_before": 3,
    "anchor": 2,
    "key": 3,
    "host": 2,
    "page": 3,
    "because": 6,
    "label": 3,
    "target": 2,
    "from": 3,
    "from_url": 3,
    "mend": 3,
    "to": 3,
}
#: pixels of a letter and of its surroundings, in heads and in cells; largest width that words require, and width of a sentence
LETTER, BOLD, SORTER, PADDING, MOST_WIDE, SENTENCE = 8.0, 9.2, 44, 18, 210, 260
#: searchable and filterable, but not shown
HIDDEN = {"section"}
KEPT = {"host", "query", "key", "change", "change_first", "source", "page", "verdict", "label", "proposal", "repair", "gain", "from", "to"}
SHOWN = [
    ("clicks", "whole", "clicks"),
    ("in the reference window", "whole", "clicks_reference"),
    ("impressions", "whole", "impressions"),
    ("CTR", "share", "ctr"),
    ("position", "tenth", "position"),
    ("pull", "hundredth", "pull"),
    ("queries", "whole", "queries"),
    ("without their query", "share", "withheld_share"),
    ("sessions", "whole", "sessions"),
    ("from search", "whole", "sessions_organic"),
    ("engaged", "share", "engagement_rate"),
    ("left after one page", "share", "single_page_rate"),
    ("conversions", "whole", "conversions"),
    ("revenue", "whole", "revenue"),
    ("backlinks", "whole", "backlinks"),
    ("links from the site", "whole", "inlinks"),
    ("status", "text", "status"),
    ("words", "whole", "words"),
    ("published", "text", "published"),
    ("changed", "text", "modified"),
]


def chosen_pages(pages: pd.DataFrame) -> pd.DataFrame:
    """The pages that the report carries."""
    return act_first(pages).head(MOST_PAGES)


def facts(site: Results) -> dict[str, Any]:
    """Lists, dossiers and the first and last week of their trends."""
    chosen = chosen_pages(site.pages())
    tables = {"pages": chosen, "topics": site.topics(), "repairs": site.repairs(), "redirects": site.redirects()}
    tables |= {
        "titles": site.titles(),
        "title_changes": site.title_changes().assign(real=lambda t: t["real"].map({True: "yes", False: "no"})),
        "absent": site.absent(),
        "backlink_faults": site.backlink_faults().assign(first_seen=lambda t: pd.to_datetime(t["first_seen"]).dt.strftime("%Y-%m-%d")),
        "broken_links": site.broken_links(),
        "link_suggestions": site.link_suggestions(),
        "hosts": _first_hosts(site.hosts()),
        "queries": _first_queries(site),
        "changes": _first_changes(site.compare(), site.config.site.home),
        "popular": site.popular(),
        "popular_ideas": site.popular_ideas(),
    }
    weeks = site.weekly(chosen["page"].tolist())
    whole = whole_weeks(site.days, site.windows.as_of)
    ends = [str(weeks.columns[0]), str(weeks.columns[-1])] if len(weeks.columns) else ["", ""]
    return {
        "lists": {name: _list(name, table, site.config.site.home) for name, table in tables.items()},
        "dossiers": _dossiers(site, chosen, weeks),
        "weeks": ends,
        "site_weeks": [[f"{first:%Y-%m-%d}", int(clicks)] for first, clicks in zip(whole["first"], whole["clicks"], strict=True)],
    }


def _first_hosts(hosts: pd.DataFrame) -> pd.DataFrame:
    """The hosts of all queries, and for each topic the most visible ones and those of the site."""
    return hosts[(hosts["level"] == "all") | hosts["own"] | (hosts.groupby("key").cumcount() < MOST_HOSTS)]


def _first_queries(site: Results) -> pd.DataFrame:
    """The queries with most clicks, each once, with the page with most impressions and the clicks within reach."""
    totals = site.table("query_totals").sort_values(["clicks", "impressions", "query"], ascending=[False, False, True]).head(MOST_ROWS)
    query = totals["query"]
    pairs, openings = (rows[rows["query"].isin(query)] for rows in (site.queries(), site.openings()))
    pairs = pairs.sort_values("impressions", ascending=False, kind="stable").drop_duplicates("query").set_index("query")
    reach = openings.groupby("query")["gain"].sum()
    ctr = totals["clicks"] / totals["impressions"].where(totals["impressions"] > 0)
    return totals.assign(ctr=ctr, page=query.map(pairs["page"]), topic=query.map(pairs["topic"].astype("str")), gain=query.map(reach))


def _first_changes(changes: pd.DataFrame, home: str) -> pd.DataFrame:
    """The changes of clicks of every level but the site, by size within each level."""
    rows = changes[changes["measure"].eq("clicks") & changes["level"].ne("site")]
    rows = rows[rows.groupby("level").cumcount() < MOST_CHANGES]
    return rows.assign(key=rows["key"].astype("str"), real=rows["real"].map({True: "yes", False: "no"}))


def _list(name: str, table: pd.DataFrame, home: str) -> dict[str, Any]:
    rows = table.head(MOST_PAGES if name == "pages" else MOST_ROWS)[[f for f, *_ in LISTS[name]]].copy()
    for field, _, kind, _ in LISTS[name]:
        if kind == "page":
            rows[field] = rows[field].map(lambda address: page_name(address, home), na_action="ignore")
        elif field in ("status", "cause"):
            rows[field] = rows[field].astype("str").str.replace("_", " ")
        elif kind not in ("text", "page"):
            rows[field] = rows[field].astype(float).round(3 if kind == "share" else 2)
    columns = [
        {
            "field": f,
            "title": title,
            "kind": kind,
            "meaning": meaning,
            "grow": GROW.get(f, 1),
            "least": _width(title, kind, rows[f]),
            "keep": f in KEPT,
            "hidden": f in HIDDEN,
        }
        for f, title, kind, meaning in LISTS[name]
    ]
    rows = rows.mask(rows.isin(["none"])) if name == "topics" else rows
    return {"columns": columns, "rows": _values(rows)}


def _width(title: str, kind: str, values: pd.Series) -> int:
    """The pixels that a column needs so that no word of its head or cells breaks, within limits."""
    if title == "because":
        return SENTENCE
    words = values.dropna().astype("str") if kind in ("text", "page") else pd.Series(dtype="str")
    longest = words.str.split().explode().str.len().max() if len(words) else 7
    return int(min(max(BOLD * len(title) + SORTER, LETTER * (0 if pd.isna(longest) else longest) + PADDING), MOST_WIDE))


def _values(frame: pd.DataFrame) -> list[list[Any]]:
    """The rows as lists, None where unknown."""
    return frame.astype(object).where(frame.notna(), None).to_numpy().tolist()


def _dossiers(site: Results, chosen: pd.DataFrame, weeks: pd.DataFrame) -> dict[str, dict[str, Any]]:
    wanted = chosen["page"]
    pairs = site.queries()
    pairs = pairs[pairs["query"].notna() & pairs["page"].isin(wanted)]
    counts = pairs.groupby("page").size()
    columns = ["query", "role", "clicks", "impressions", "position", "pull", "answer"]
    queries = _by_page(pairs.groupby("page").head(MOST_QUERIES).round({"position": 1, "pull": 2, "answer": 2}), columns)
    visits = site.engagement()
    visits = visits[visits["page"].isin(wanted)].round({"engagement_rate": 3, "engagement_usual": 3})
    channels = _by_page(visits, ["channel", "sessions", "engagement_rate", "engagement_usual", "conversions"])
    origins = site.visit_sources()
    origins = origins[origins["page"].isin(wanted) & origins["source"].ne("") & (origins["sessions"] > 0)]
    origins = origins.groupby("page").head(MOST_SOURCES).round({"sessions_reference": 0, "engagement_rate": 3})
    sources = _by_page(origins, ["source", "channel", "sessions", "sessions_reference", "engagement_rate", "conversions"])
    proof = site.evidence()
    proof = proof[proof["page"].isin(wanted)]
    proof = proof.assign(value=proof["value"].map(lambda v: cell_text(v, "value")), threshold=proof["threshold"].astype("str"))
    evidence = _by_page(proof, ["measure", "value", "threshold", "window", "source"])
    changes = site.compare(by="page")
    changed = {row["key"]: [row] for row in records(changes[changes["key"].isin(wanted)])}
    trends = site.trends()
    trended = {row["page"]: [row] for row in records(trends[trends["page"].isin(wanted)])}
    retitled = {row["page"]: [row] for row in records(site.title_changes())}
    lines = dict(zip(weeks.index, weeks.to_numpy().tolist(), strict=True))
    result, home = {}, site.config.site.home
    for row in records(chosen):
        page = row["page"]
        sentences = [row["because"], row["also"] and f"Second best: {row['also']}"]
        if row["gain"] and row["gain"] >= 1:
            sentences.append(
                f"Gain {row['gain']:,.0f} clicks a month ({row['gain_low']:,.0f} to {row['gain_high']:,.0f} in 8 of 10 cases)."
            )
        change = [] if row["cause"] == "decay" else changed.get(page, [])  # its reason says the same
        sentences += history({"change": change, "trend": trended.get(page, []), "title_change": retitled.get(page, [])})
        result[page_name(page, home)] = {
            "address": page,
            **{name: row[name] for name in ("title", "verdict", "cause", "confidence")},
            "target": row["target"] and page_name(row["target"], home),
            "sentences": [line for line in sentences if line],
            "weeks": lines.get(page),
            "measures": [[label, kind, _plain(row[name], kind)] for label, kind, name in SHOWN],
            "queries": queries.get(page, []),
            "query_count": int(counts.get(page, 0)),
            "channels": channels.get(page, []),
            "sources": sources.get(page, []),
            "evidence": evidence.get(page, []),
        }
    return result


def _by_page(rows: pd.DataFrame, columns: list[str]) -> dict[str, list[list[Any]]]:
    """The rows of each page as lists, in their order."""
    ordered = rows.sort_values("page", kind="stable")
    pages, first = np.unique(ordered["page"].to_numpy(dtype=object), return_index=True)
    values, ends = _values(ordered[columns]), [*first[1:].tolist(), len(ordered)][: len(first)]
    return {str(page): values[start:end] for page, start, end in zip(pages, first.tolist(), ends, strict=True)}


def _plain(value: Any, kind: str) -> Any:
    if value is None or pd.isna(value):
        return None
    return cell_text(value, "") if kind == "text" else round(float(value), 4)
