"""Why two pages that draw the same queries are not merged; `rows` are the pairs of `core.groups`."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core import sentences as say
from nibbet.core.thresholds import Thresholds

STAYS = "They take turns, but one is protected, new, a hub or not there for search, and stays."
NO_GAIN = "They take turns, but one page would earn no more than both, or one is like the other only through a third."
SHOWN = "They are shown for each other's queries, but "


def few_shared(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Rows: shared."""
    return say.joined("They share ", say.plural(rows["shared"], "query"), f", under {t.shared_queries}.")


def one_leads(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Rows: turn_taking, contested."""
    days = say.share(rows[["turn_taking", "contested"]].min(axis=1))
    always = f"under {t.turn_taking:.0%}: one always leads, as for two searches that only look alike."
    return say.joined("On ", days, f" of days the leading page changes or the other leads, {always}")


def of_two_intents(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Rows: intent."""
    share = say.share(rows["intent"])
    return say.joined("By the results of their queries ", share, f" of what they are chosen for is one intent, under {t.same_intent:.0%}.")


def of_two_searches(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Rows: lead_spread, title_likeness, overlap, one_search."""
    factor = np.exp(rows["lead_spread"]).round(1).astype("str")
    lead = say.joined("each leads its own (from query to query by a factor of ", factor, "), ").where(rows["lead_spread"].notna(), "")
    titles = say.joined("titles share ", say.share(rows["title_likeness"]), " of their telling words, ")
    return say.joined(
        SHOWN,
        lead,
        titles.where(rows["title_likeness"].notna(), ""),
        "and ",
        say.share(rows["overlap"]),
        " of the smaller page is on shared queries: that they answer one search is ",
        say.percent(rows["one_search"]),
        f" likely, under {100 * t.one_search:g}%.",
    )


def not_answered(rows: pd.DataFrame, least: pd.Series) -> pd.Series:
    """Rows: each_answers, above; least: how far each page must answer what the other gets clicks for."""
    lies = rows["above"].map({True: ", for one lies above the other.", False: "."})
    answers = say.share(rows["each_answers"])
    return say.joined(SHOWN, "of what the one is chosen for the other answers ", answers, ", under ", say.share(least), lies)


def one_above(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Rows: title_likeness."""
    titles = say.joined("One lies above the other, and their titles share ", say.share(rows["title_likeness"]))
    return say.joined(titles, f" of their telling words, under {t.alike_above:.0%}: a section's page draws what its pages answer.")


def own_question(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Rows: own_question."""
    what = say.joined(SHOWN, "of what the one answers in words of its own title the other leaves ", say.share(rows["own_question"]))
    return say.joined(what, f" unanswered, at least {t.own_question:.0%}.")


def far_apart(rows: pd.DataFrame, t: Thresholds) -> pd.Series:
    """Where there are no days to show turn-taking. Rows: mutual, place_gap."""
    return say.joined(
        "No days tell whether they take turns; ",
        say.share(rows["mutual"]),
        f" of what either draws is drawn by both (at least {t.overlap_undated:.0%} are asked) and their places differ by a factor of ",
        np.exp(rows["place_gap"]).round(1).astype("str"),
        f" (at most {np.exp(t.place_gap):.1f}).",
    )
