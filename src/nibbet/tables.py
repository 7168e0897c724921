"""Every output table, listed once: its content, how it is made, and where it appears.

The files of a run, the sheets and definitions of the workbook, the tables of `nibbet sql`, the chapter on tables and datapackage.json are
all made from this list. The meanings of columns are in `core.meanings`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import pandas as pd

    from nibbet.pipeline import Pipeline


@dataclass(frozen=True)
class Table:
    """An output table.

    holds: what one row is, in words; make: how the pipeline makes it; file, parquet: whether a run writes NAME.csv and NAME.parquet; sheet:
    the columns of its sheet in the workbook, in order; none without a sheet.
    """

    holds: str
    make: Callable[[Pipeline], pd.DataFrame]
    file: bool = True
    parquet: bool = False
    sheet: tuple[str, ...] = ()


def _columns(names: str) -> tuple[str, ...]:
    return tuple(names.split())


#: days covered by the table of new pages: a quarter
NEW_SINCE = 90
TABLES = {
    "pages": Table(
        "the ledger: one row per page, everything joined, with its verdict",
        lambda p: p.decisions.ledger_table(),
        parquet=True,
        sheet=_columns(
            "page verdict cause gain confidence because target section gain_low gain_high worth also clicks "
            "clicks_reference change change_share change_real impressions ctr position pull queries withheld_share sessions "
            "sessions_organic engagement_rate single_page_rate conversions revenue status indexable title words inlinks backlinks published "
            "modified trend since purpose intended answered_share"
        ),
    ),
    "queries": Table(
        "the query map: one row per query and page of the recent window; query is null for what the source withholds",
        lambda p: p.decisions.queries_table(),
        parquet=True,
    ),
    "query_groups": Table(
        "one row per group of queries in the settings, and one for all other queries: totals, pull and change",
        lambda p: p.query_groups_table(),
    ),
    "group_queries": Table(
        "one row per named group and query, flagged where its pull deviates from that of the group",
        lambda p: p.group_queries_table(),
    ),
    "query_totals": Table(
        "one row per query of the recent window, over all its pages",
        lambda p: p.query_map.query_totals(),
        file=False,
    ),
    "verdicts": Table(
        "one row per page that has a verdict, by gain",
        lambda p: p.decisions.verdicts(),
        file=False,
    ),
    "openings": Table(
        "clicks within reach, by page and query",
        lambda p: p.opportunities.table(),
        sheet=_columns("page query kind position clicks expected_clicks gain gain_low gain_high"),
    ),
    "evidence": Table(
        "the figures behind each verdict",
        lambda p: p.decisions.evidence(),
    ),
    "groups": Table(
        "merge groups: pages that answer the same queries",
        lambda p: p.merges.table(),
        sheet=_columns(
            "group page survivor shared_impressions overlap turn_taking one_search survivor_answers own_question gain gain_low gain_high clicks_alone"
        ),
    ),
    "topics": Table(
        "queries grouped so that one page can answer each group, who serves them, and what to do",
        lambda p: p.topics.table(),
        sheet=_columns(
            "label language queries volume volume_kind clicks impressions position served page proposal gain gain_low "
            "gain_high worth sessions engagement_rate conversions conversions_low conversions_high revenue peak strength fit fit_because because"
        ),
    ),
    "hosts": Table(
        "hosts in result snapshots: one row per host, over all queries and by topic, with its share of the expected clicks",
        lambda p: p.topics.hosts(),
        sheet=_columns("level key host own queries query_share top3 rank share share_before own_share searches form url"),
    ),
    "strengths": Table(
        "what sections, groups, kinds, lengths and titles of pages earn per page and per search, relative to the usual",
        lambda p: p.measures.strengths,
        sheet=_columns(
            "level key pages clicks_per_page clicks_per_search strength strength_low strength_high conversions_per_page "
            "conversions_per_session"
        ),
    ),
    "apart": Table(
        "pairs of pages that draw the same queries but are not merged, with the reason",
        lambda p: p.merges.apart_table(),
    ),
    "redirects": Table(
        "redirects of addresses that go",
        lambda p: p.mends.redirects(),
        sheet=_columns("from to status because"),
    ),
    "repairs": Table(
        "technical faults between pages and their traffic",
        lambda p: p.mends.repairs(),
        sheet=_columns("page repair weight target because"),
    ),
    "lives": Table(
        "long-term development of pages and topics: evergreen, seasonal, fading, growing, short-lived, an event that is over",
        lambda p: p.lives.table(),
        sheet=_columns("level key life season clicks height peak begins ready_by since depth event_from event_to because"),
    ),
    "popular": Table(
        "the pages with most views, longest visits and highest earnings, of the site, its sections, kinds and groups",
        lambda p: p.popular.table(),
        sheet=_columns("measure level key rank page value share sessions usual"),
    ),
    "popular_traits": Table(
        "what the most popular fifth of the pages of each section has in common, compared with the others",
        lambda p: p.popular.common(),
    ),
    "popular_ideas": Table(
        "unanswered topics related to popular pages",
        lambda p: p.popular.ideas(),
        sheet=_columns("label volume proposal gain page popular_by likeness words because"),
    ),
    "speed": Table(
        "speed of each page for its visitors: the three web vitals at the 75th percentile, and a rating",
        lambda p: p.speed.table(),
        sheet=_columns("page form_factor loading responding shifting samples rating clicks sessions engagement_rate because"),
    ),
    "speed_cost": Table(
        "whether poor pages engage and convert less than the others of their section, with interval",
        lambda p: p.speed.cost(),
    ),
    "anchors": Table(
        "anchor texts of the links to each page, internal and external: kinds, the most frequent one, missing words",
        lambda p: p.anchors.table(),
        sheet=_columns(
            "page side links menus anchors brand_share general address empty own_name keyword top top_share usual_share flag query missing because"
        ),
    ),
    "linking_hosts": Table(
        "linking hosts: one row per host, with new, lost and failing links",
        lambda p: p.backlinks.hosts(),
        sheet=_columns("host links from_pages pages newest new lost failing visits"),
    ),
    "backlink_faults": Table(
        "backlinks that are lost, or lead to addresses that fail or redirect, with the redirect that saves them",
        lambda p: p.backlinks.faults(),
        sheet=_columns("from_url page target anchor state first_seen status to because"),
    ),
    "absent": Table(
        "pages that matter and that search hardly shows: their importance, and the first of twelve causes that holds",
        lambda p: p.absence.table(),
        sheet=_columns("page importance cause mend impressions sessions because"),
    ),
    "broken_links": Table(
        "one row per internal link that leads to a fault or a detour: its page, its anchor, and what to link to instead",
        lambda p: p.linking.broken(),
        sheet=_columns("source target status anchor place links to clicks because"),
    ),
    "link_suggestions": Table(
        "missing links: from related pages with many readers to pages with too few links",
        lambda p: p.linking.suggestions(),
        sheet=_columns("to from anchor gain shown links strength readers because"),
    ),
    "link_flows": Table(
        "where the links of each section lead, compared with demand",
        lambda p: p.linking.flows(),
    ),
    "changes": Table(
        "changes between the recent and the reference window, at every level",
        lambda p: p.changes_table(),
    ),
    "losses": Table(
        "queries of a page that lose clicks together, under the words they share",
        lambda p: p.losses_table(),
    ),
    "trends": Table(
        "development of each page without season and section: lasting falls and rises, life, start",
        lambda p: p.history.trend_table(),
    ),
    "new_pages": Table(
        "one row per page first seen in the last 90 days: its start compared with earlier new pages at the same age",
        lambda p: p.decisions.new_pages(NEW_SINCE),
    ),
    "pulls": Table(
        "pull of pages (no query) and pairs with interval and flag, without the brand; by clicks lost",
        lambda p: p.diagnostics.pulls(),
    ),
    "parts": Table(
        "sums and rates of the site, its sections and named groups",
        lambda p: p.diagnostics.parts(),
    ),
    "peers": Table(
        "pages whose rates deviate from those of their section or group",
        lambda p: p.diagnostics.peers(),
    ),
    "segments": Table(
        "pages that do well in one device, country or surface and badly in another",
        lambda p: p.diagnostics.segments(),
    ),
    "splits": Table(
        "one row per device, country, surface and channel: searches and visits, each rate relative to the same pages elsewhere",
        lambda p: p.splits.table(),
        sheet=_columns(
            "dimension value pages impressions clicks ctr position pull pull_beside pull_flag sessions engagement_rate engagement_beside engagement_flag "
            "seconds_per_session conversions conversions_per_session conversion_beside conversion_flag revenue clicks_reference sessions_reference"
        ),
    ),
    "markets": Table(
        "one row per country and language: searches, how visitors from there buy, the worth of pages in that language",
        lambda p: p.markets.table(),
        sheet=_columns(
            "country language queries impressions clicks ctr position sessions engagement_rate conversions conversions_per_session revenue "
            "gain gain_low gain_high worth because"
        ),
    ),
    "titles": Table(
        "one row per page whose title or description has a fault: what to change first, and the gain where it is proven on this site",
        lambda p: p.titles.advice(),
        sheet=_columns("page title clicks expected_clicks pull position change_first mend proven gain gain_low gain_high because traits"),
    ),
    "title_effects": Table(
        "one row per trait of titles and descriptions: CTR of pages with it relative to others at the same position",
        lambda p: p.titles.effects(),
    ),
    "title_changes": Table(
        "one row per page whose title or description changed between two inventories: the effect on its CTR, relative to unchanged pages",
        lambda p: p.titles.changes(),
        sheet=_columns(
            "page changed title_before title changed_after changed_by clicks_before clicks_after ctr_before ctr_after position_before position_after "
            "effect effect_low effect_high real because"
        ),
    ),
    "title_trials": Table(
        "one row per kind of change to titles and descriptions: their combined effect",
        lambda p: p.titles.trials(),
    ),
    "event_rates": Table(
        "events on each page: count and rate per session, compared with pages of its section or kind",
        lambda p: p.diagnostics.events(),
        sheet=_columns("page event count sessions rate rate_low rate_high usual flag rate_reference because"),
    ),
    "visit_sources": Table(
        "one row per page, channel and source (the sending site or service): visits, engagement, conversions, and visits before",
        lambda p: p.splits.visit_sources(),
    ),
    "engagement": Table(
        "visits by page and channel, compared with the same channel on the other pages of the section",
        lambda p: p.diagnostics.engagement(),
    ),
    "seasons": Table(
        "the season of each section and page",
        lambda p: p.history.season_table(),
    ),
    "addresses": Table(
        "every spelling of an address, and its page",
        lambda p: p.inputs.spellings,
    ),
    "windows": Table(
        "the compared windows: recent, reference, long",
        lambda p: p.windows_table(),
        file=False,
    ),
}
#: the sheets of the workbook, in order
SHEETS = [
    "pages",
    "openings",
    "groups",
    "topics",
    "hosts",
    "titles",
    "title_changes",
    "repairs",
    "redirects",
    "absent",
    "broken_links",
    "link_suggestions",
    "lives",
    "popular",
    "popular_ideas",
    "speed",
    "anchors",
    "linking_hosts",
    "backlink_faults",
    "strengths",
    "event_rates",
    "splits",
    "markets",
]
#: tables of rows, made by the engine when a question in SQL needs them
ROW_TABLES = {
    "days": "one row per page and day with search rows: the figures that the ledger counts",
    "weeks": "one row per page and week (its Monday)",
    "sections": "one row per section and day",
    "devices": "one row per page and device: recent and reference window",
    "countries": "one row per page and country: recent and reference window",
    "surfaces": "one row per page and surface: recent and reference window",
    "search": "search rows as cleaned; totals of pages are in rows of grain page where there are any, else in those of grain pair",
    "landings": "landing-page rows as cleaned",
    "crawl": "the crawl inventory as cleaned",
    "links": "internal links as cleaned",
    "backlinks": "backlinks as cleaned",
    "results": "result snapshots as cleaned",
    "demand": "monthly searches as cleaned",
    "editorial": "what editors keep of their pages, as cleaned",
    "hits": "server log as cleaned",
    "vitals": "web vitals by page or group of pages, as cleaned",
    "events": "what visitors did, by page and event, as cleaned",
    "sitemap": "sitemap entries as cleaned",
    "robots": "rules of robots.txt",
}
