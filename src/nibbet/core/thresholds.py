"""The thresholds of the rules, with limits and reasons: the table [verdicts] of nibbet.toml."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

#: no unknown keys; immutable
STRICT = ConfigDict(extra="forbid", frozen=True, use_attribute_docstrings=True)


class Thresholds(BaseModel):
    """[verdicts]: thresholds, each with its reason."""

    model_config = STRICT

    prune_clicks: int = Field(20, ge=0)
    "Clicks in the long window below which a page is poor: less than one in two weeks is chance."
    prune_impressions: int = Field(600, ge=0)
    "Impressions in the long window below which it is hardly shown: less than two a day."
    prune_share: float = Field(0.2, gt=0, le=1)
    "Share of the mean of the site's pages below which clicks and impressions are few, where that is less than the two limits above: on a site for few searchers, a page with few is no exception."
    prune_sessions: int = Field(10, ge=0)
    "Sessions of all channels in the long window below which nobody comes."
    covered_days: int = Field(300, ge=30)
    "Days of visits needed to remove a page: with less, a season with visitors may be missing."
    prune_needs: Literal["both", "one", "none"] = "both"
    "Which of landings and backlinks must be given before a page is pruned: both show pages that are needed although they get no clicks from search."
    hub_outlinks: int = Field(30, ge=1)
    "Outgoing links from which a page is a hub, which is never removed; at least half as many above the median of the site, since menus and footers stand on every page."
    hub_children: int = Field(3, ge=1)
    "Pages below it, by address or breadcrumbs, from which it is a hub."
    overlap: float = Field(0.55, gt=0, le=1)
    "Share of the smaller page's impressions on shared queries from which two pages compete."
    shared_queries: int = Field(3, ge=1)
    "Queries in common from which two pages compete: fewer may be chance."
    turn_taking: float = Field(0.12, ge=0, le=1)
    "Share of days on which the leading page changes, or which no single change of it explains: rivals for one intent take turns, neighbours do not."
    one_search: float = Field(0.995, ge=0, le=1)
    "Required probability that two pages serve one search, from who leads each query, what they share and their titles: two hundred to one, because a wrong merge costs a page permanently and a missed one only some of its growth."
    each_answers: float = Field(0.35, ge=0, le=1)
    "How far each of two pages must answer what the other gets clicks for: below, searchers of the page that goes would find no answer. A page that answers nearly all (0.8) of it may survive for both."
    alike_above: float = Field(0.5, ge=0, le=1)
    "The same, and the share of distinctive words that titles have in common, where one page is the parent of the other: a section page is shown for much that its pages answer, and is merged with one only where most of both is the same."
    own_question: float = Field(0.5, ge=0, le=1)
    "Of the impressions for queries that a page answers in words of its title which the other title lacks, the share for those that the other does not answer; from this share, the page has its own question and is not merged."
    same_intent: float = Field(0.15, ge=0, le=1)
    "Share of the clicks of both pages with the same intents, by result snapshots; below, searchers want different things."
    overlap_undated: float = Field(0.75, gt=0, le=1)
    "The overlap of both pages required without daily rows, which would show turn-taking."
    place_gap: float = Field(0.4, ge=0)
    "Largest difference of the log positions of two pages on shared queries without daily rows: beyond a factor of 1.5 one of them leads."
    answers: float = Field(0.5, gt=0, lt=1)
    "Answer from which a page answers a query: half of its distinctive words, or equivalent behaviour."
    rival_share: float = Field(0.1, gt=0, lt=1)
    "Share of a query from which another page is a rival."
    decay_share: float = Field(0.25, gt=0, lt=1)
    "Share of the reference clicks that rank and pull must have cost."
    climb_position: tuple[float, float] = (5.5, 20.0)
    "Positions between which climbing pays: at better ones there is little to gain, at worse ones another page is needed."
    climb_share: float = Field(0.5, gt=0, le=1)
    "Gain of a climb as a share of the clicks of the page, from which it is advised."
    snippet_pull: float = Field(0.7, gt=0, lt=1)
    "Pull below which a new title and description are worth a test."
    engagement_share: float = Field(0.7, gt=0, lt=1)
    "Engagement rate relative to the section below which a page disappoints."
    engagement_sessions: int = Field(50, ge=1)
    "Sessions from which that is judged."
    stray_impressions: int = Field(300, ge=1)
    "Impressions on one unanswered topic from which it is worth an answer."
    real_change: float = Field(0.10, ge=0, lt=1)
    "Change beyond noise and season from which it is real."
    min_gain: float = Field(5.0, ge=0)
    "Extra clicks a month below which a refresh or expansion is not worth an editor's day."
