"""Why two pages that draw the same queries are not merged; `rows` are the pairs of `core.groups`."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core import sentences as say
from nibbet.core.thresholds import Thresholds

STAYS = "They take turns, but one is protected, new, a hub or has another purpose, and stays."
NO_GAIN = "They take turns, but one page would earn no more than both, or they are similar only through a third."
REGIONS = "They are for two languages or regions, by their addresses."
SHOWN = "They are shown for each other's queries, but "


def few_shared(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Rows: shared."""
    return say.joined("They share only ", say.plural(rows["shared"], "query"), f"; {t.shared_queries} are required.")


def one_leads(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Rows: turn_taking, contested."""
    turns = rows[["turn_taking", "contested"]].min(axis=1)
    always = f"below {t.turn_taking:.0%}: one of them leads, as for two searches that only look alike."
    return say.joined("They take turns in the lead on ", say.share(turns), f" of days, {always}")


def of_two_intents(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Rows: intent."""
    share = say.share(rows["intent"])
    return say.joined("By the results of their queries, ", share, f" of their clicks have the same intent, below {t.same_intent:.0%}.")


def of_two_searches(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Rows: lead_spread, title_likeness, overlap, one_search."""
    factor = np.exp(rows["lead_spread"]).round(1).astype("str")
    lead = say.joined("each leads its own (by a factor of ", factor, " from query to query), ").where(rows["lead_spread"].notna(), "")
    titles = say.joined("titles share ", say.share(rows["title_likeness"]), " of their distinctive words, ")
    return say.joined(
        SHOWN,
        lead,
        titles.where(rows["title_likeness"].notna(), ""),
        "and ",
        say.share(rows["overlap"]),
        " of the impressions of the smaller page are for shared queries: the probability that they serve one search is ",
        say.percent(rows["one_search"]),
        f", below {100 * t.one_search:g}%.",
    )


def not_answered(rows: pd.DataFrame, least: pd.Series) -> pd.Series:
    """Rows: each_answers, above; least: how far each page must answer what the other gets clicks for."""
    lies = rows["above"].map({True: ", because one is the parent of the other.", False: "."})
    answers = say.share(rows["each_answers"])
    return say.joined(SHOWN, "the other answers only ", answers, " of what one gets clicks for, below ", say.share(least), lies)


def one_above(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Rows: title_likeness."""
    titles = say.joined("One is the parent of the other, and their titles share ", say.share(rows["title_likeness"]))
    return say.joined(titles, f" of their distinctive words, below {t.alike_above:.0%}: a section page is shown for what its pages answer.")


def own_question(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Rows: own_question."""
    what = say.joined(SHOWN, "the other does not answer ", say.share(rows["own_question"]))
    return say.joined(what, f" of what one answers with words of its own title; {t.own_question:.0%} is its own question.")


def far_apart(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Where there are no days to show turn-taking. Rows: mutual, place_gap."""
    return say.joined(
        "Without daily rows turn-taking is unknown; ",
        say.share(rows["mutual"]),
        f" of their impressions are for shared queries (at least {t.overlap_undated:.0%} are required), and their positions differ by a factor of ",
        np.exp(rows["place_gap"]).round(1).astype("str"),
        f" (at most {np.exp(t.place_gap):.1f}).",
    )
