"""Sentences about topics: who answers them, which popular pages they are related to, and what other markets ask."""

from __future__ import annotations

import pandas as pd

from nibbet.core import sentences as say
from nibbet.core.languages import NAMES, asked_words

#: display names of the measures of popularity
POPULAR = {"views": "most viewed", "kept": "longest visited", "earning": "highest earning"}


def served(topics: pd.DataFrame, page: pd.Series, state: pd.Series, window: str) -> pd.Series:
    """Topics: impressions, position, answered_share, volume, language; page: path of the page that answers or is shown; state: restore,
    ended, unseen, caught, answered, unnamed (rows name no pages), unknown (nor impressions); window: of the impressions.
    """
    shown = say.joined(say.count(topics["impressions"]), " impressions", say.at_place(topics["position"]), f" ({window})")
    sentences: dict[str, pd.Series | str] = {
        "restore": say.joined(page, " answered it, but fails or is blocked from the index: restore it first."),
        "ended": say.joined(page, " answered it until its time was over, like most pages of its section."),
        "unseen": say.joined("The site does not appear for its ", say.count(topics["volume"]), " searches a month.").where(
            topics["volume"] > 0, "The site does not appear for it, and no searches are known."
        ),
        "caught": say.joined(
            asked_words(topics["language"], "Asked in ", ". "), "No page answers it; ", page, " is shown for it: ", shown, "."
        ),
        "answered": say.joined(page, " answers ", say.share(topics["answered_share"]), " of its ", shown, "."),
        "unnamed": say.joined("The site has ", say.plural(topics["impressions"], "impression"), " for it; no row names the pages."),
        "unknown": "No row names the pages of queries, so it is unknown whether one answers it.",
    }
    return say.chosen(sentences, state)


def leaning(topics: pd.DataFrame, page: pd.Series) -> pd.Series:
    """Topics: volume, volume_kind, words (in common), popular_by (names of POPULAR); page: path of the popular page on a related subject."""
    names = topics["popular_by"].astype("str").str.replace(r", (?=\w+$)", " and ", regex=True)
    for name, words in POPULAR.items():
        names = names.str.replace(name, words)
    volume = say.joined(say.count(topics["volume"]), " ", say.named(topics["volume_kind"]), ", not answered yet; the related page ")
    return say.joined(volume, page, " (", say.named(topics["words"]), ") is among the ", names, " of its section.")


def markets(table: pd.DataFrame) -> pd.Series:
    """Table: country, language (null for the site's own), queries, impressions, clicks, sessions, conversions_per_session."""
    where = say.joined(" from ", say.named(table["country"])).where(table["country"] != "", "")
    spoken = table["language"].map(NAMES).fillna(table["language"]).astype("str")
    drawn = say.joined(say.count(table["impressions"]), " impressions, ", say.plural(table["clicks"], "click"))
    demand = say.joined(say.plural(table["queries"], "query"), " in ", say.named(spoken), where)
    unanswered = say.joined(demand, ": ", drawn, "; no page answers them in that language.")
    sold = say.joined(", ", say.percent(table["conversions_per_session"]), " of ", say.plural(table["sessions"], "visit"), " convert.")
    rest = say.joined("All other queries", where, ": ", drawn, sold.where(table["sessions"] > 0, "."))
    return unanswered.where(table["language"].notna(), rest)
