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
    "Clicks in the long window below which a page is poor: under one in two weeks is chance."
    prune_impressions: int = Field(600, ge=0)
    "Impressions in the long window below which it is hardly shown: under two a day."
    prune_sessions: int = Field(10, ge=0)
    "Sessions of all channels in the long window below which nobody comes."
    covered_days: int = Field(300, ge=30)
    "Days of visits from which a page is removed: with less, a season may be missing in which people come."
    prune_needs: Literal["both", "one", "none"] = "both"
    "Which of landings and backlinks must be given before a page is pruned: both tell of pages that are needed though search is not."
    hub_outlinks: int = Field(30, ge=1)
    "Links out from which a page is a hub, which is never removed."
    hub_children: int = Field(3, ge=1)
    "Pages below it, by address or breadcrumbs, from which it is a hub."
    overlap: float = Field(0.55, gt=0, le=1)
    "Share of the smaller page's impressions on shared queries from which two pages compete."
    shared_queries: int = Field(3, ge=1)
    "Queries in common from which they do: fewer may be chance."
    turn_taking: float = Field(0.12, ge=0, le=1)
    "Share of days on which the leading page changes: rivals for one intent take turns, neighbours do not."
    one_search: float = Field(0.995, ge=0, le=1)
    "How likely it must be that two pages answer one search, by who leads each query, what they share and their titles: two hundred to one, for a wrong merge costs a page for good and a missed one a little of its growth."
    each_answers: float = Field(0.35, ge=0, le=1)
    "How far either of two pages must answer what the other is chosen for: below, the searchers of the page that goes would find no answer. A page that answers nearly all (0.8) of what the other is chosen for may stay for both, whatever else it draws."
    alike_above: float = Field(0.5, ge=0, le=1)
    "That answer, and the share of telling words that titles have in common, where one page lies above the other: a section's page is shown for much that its pages answer, and is one with a page of it only where most of what both say is the same."
    own_question: float = Field(0.5, ge=0, le=1)
    "Share of what a page answers in words of its title that the other's has not, and that the other does not answer: from it on, the page has a question of its own and is not merged."
    same_intent: float = Field(0.15, ge=0, le=1)
    "Share of what both are chosen for in the same topics, where snapshots of results are given: below it searchers want different things."
    overlap_undated: float = Field(0.75, gt=0, le=1)
    "That share asked of both pages where no days tell whether they take turns: overlap alone needs more of it."
    place_gap: float = Field(0.4, ge=0)
    "How far apart two pages may then stand on shared queries, in the logarithm of the position: beyond half the place again one leads."
    answers: float = Field(0.5, gt=0, lt=1)
    "Answer from which a page answers a query: half of its telling words, or behaviour that tells as much."
    rival_share: float = Field(0.1, gt=0, lt=1)
    "Share of a query from which another page is a rival."
    decay_share: float = Field(0.25, gt=0, lt=1)
    "Share of the reference clicks that rank and pull must have cost."
    climb_position: tuple[float, float] = (5.5, 20.0)
    "Positions between which climbing pays: above there is little to win, below it takes another page."
    climb_share: float = Field(0.5, gt=0, le=1)
    "Clicks to gain by climbing, as a share of the page's own, from which it is advised."
    snippet_pull: float = Field(0.7, gt=0, lt=1)
    "Pull below which title and description are worth a test."
    engagement_share: float = Field(0.7, gt=0, lt=1)
    "Engaged share of visits, as a share of the section's, below which a page disappoints."
    engagement_sessions: int = Field(50, ge=1)
    "Sessions from which that is judged."
    stray_impressions: int = Field(300, ge=1)
    "Impressions on one topic that nothing answers, from which it is worth an answer."
    real_change: float = Field(0.10, ge=0, lt=1)
    "Change beyond noise and season from which it counts as real."
    min_gain: float = Field(5.0, ge=0)
    "Extra clicks a month under which a refresh or an expansion is not worth an editor's day."
