"""Sentences about verdicts, separate from the rules that choose them: each takes the pages and their figures, one row a page."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core import sentences as say
from nibbet.core.languages import asked_words
from nibbet.core.replaced import REPLACED

#: difference of log positions up to which a loss by rank is one of being shown
SAME_PLACE = 0.05
#: probability below which a cause is said to be uncertain
SURE = 0.8


def too_young(pages: pd.DataFrame, age: pd.Series, settled: int) -> pd.Series:
    """Pages: published, born; age: days; settled: days from which pages are judged."""
    since = pd.Series(np.where(pages["published"].eq(pages["born"]), "Published ", "First seen "), index=pages.index)
    day = say.named(pages["born"].dt.strftime("%Y-%m-%d"))
    return say.joined(since, day, ", ", say.count(age), f" days ago: pages are judged after {settled} days.")


def of_unknown_age(days: pd.Series, settled: int) -> pd.Series:
    """Days: since the first sign of each page, null without one."""
    seen = "It may be new: it was first seen " + days.astype("Int64").astype("str") + " days ago"
    sign = pd.Series(np.where(days.notna(), seen, "It may be new: no source shows how old it is"), index=days.index)
    return say.joined(sign, f", and pages are judged after {settled} days. Its date of publication would settle it.")


def short_history(pages: pd.Index, covered: int) -> pd.Series:
    """Covered: days of a year that the data cover."""
    return pd.Series(f"It earned hardly anything, but the data cover only {covered} days: its season may be missing.", index=pages)


def source_missing(pages: pd.DataFrame, visits: pd.Series, year: str, covered: int) -> pd.Series:
    """Pages: clicks_long, impressions_long, backlinks_known; visits: whether they are known; year: the days over which they are needed."""
    kinds = [~visits & ~pages["backlinks_known"], ~visits]
    missing = np.select(kinds, [f"visits{year} and backlinks", f"visits and conversions{year}"], "backlinks")
    return say.joined(
        say.plural(pages["clicks_long"], "click"),
        ", ",
        say.plural(pages["impressions_long"], "impression"),
        f" in {covered} days, but no source has ",
        pd.Series(missing, index=pages.index),
        ": add it before you remove the page.",
    )


def earns_nothing(pages: pd.DataFrame, cover: pd.Series, covered: int, machines: pd.Series) -> pd.Series:
    """Pages: clicks_long, impressions_long, sessions_long, sessions_known, backlinks_known, backlinks_throughout; cover: path of the page that
    covers it, or null; machines: whether its sessions are those of machines.
    """
    idle = pd.Series(np.where(machines, " without any engagement, as of machines", ""), index=pages.index)
    visits = say.joined(say.plural(pages["sessions_long"], "session"), idle, ", no conversion").where(pages["sessions_known"], "visits unknown")
    everywhere = pages["backlinks_throughout"].fillna(0) > 0
    kinds = [~pages["backlinks_known"], everywhere]
    texts = [", backlinks unknown", ", no backlink but from sites that link throughout this one"]
    links = pd.Series(np.select(kinds, texts, ", no backlink"), index=pages.index)
    return say.joined(
        say.plural(pages["clicks_long"], "click"),
        ", ",
        say.plural(pages["impressions_long"], "impression"),
        ", ",
        visits,
        links,
        f" in {covered} days",
        ("; " + cover + " covers its subject.").where(cover.notna(), "; no page covers its subject."),
    )


def same_searches(leaving: pd.DataFrame, survivor: pd.Series) -> pd.Series:
    """Leaving: overlap, turn_taking, same_heading; survivor: path of the page that stays."""
    turns = say.joined(", and they take turns on ", say.share(leaving["turn_taking"]), " of days")
    twin = pd.Series(np.where(leaving["same_heading"] > 0, ", which has the same title and heading,", ""), index=leaving.index)
    return say.joined(
        "It competes with ",
        survivor,
        twin,
        " for the same searches: ",
        say.share(leaving["overlap"]),
        " of the impressions of the smaller page are for shared queries",
        turns.where(leaving["turn_taking"].notna(), ""),
        ".",
    )


def decayed(pages: pd.DataFrame, base: pd.Series, recent: pd.Series, *, is_daily: bool) -> pd.Series:
    """Pages: rank, pull_part, demand, position, position_both, position_both_reference, since, trend, taken_over; base, recent: clicks before
    and now.
    """
    known = pages["position_both"].notna()
    places = say.joined(" (position ", say.place(pages["position_both_reference"]), " to ", say.place(pages["position_both"]), ")")
    still = np.abs(np.log(pages["position_both"] / pages["position_both_reference"])) < SAME_PLACE
    places = places.mask(
        still, say.joined(" (shown for fewer of the searches, at position ", say.place(pages["position_both"]), ", about as before)")
    )
    taken = say.joined(", ", say.share(pages["replaced"]), " of it to ", say.named(pages["replaced_by"]))
    to_others = taken.where(pages["replaced"] >= REPLACED, "")
    by_rank = say.joined("Rank cost ", say.count(-pages["rank"]), " clicks", places.where(known, ""), to_others)
    fell = pages["position"].notna().map({True: " at the same position", False: "; positions are unknown"})
    by_pull = say.joined("Pull cost ", say.count(-pages["pull_part"]), " clicks (CTR fell", fell, ")")
    first = -pages["rank"] >= -pages["pull_part"]
    second = _part("pull", pages["pull_part"]).where(first, _part("rank", pages["rank"]))
    dated = pages["since"].notna() & pages["trend"].isin(["collapse", "slow decay"])
    since = (" since the week of " + pages["since"].dt.strftime("%Y-%m-%d").fillna("")).where(dated, "")
    return say.joined(
        by_rank.where(first, by_pull),
        since,
        "; ",
        second,
        ", ",
        _part("demand", pages["demand"]),
        ". ",
        "Clicks fell from ",
        say.count(base),
        _elsewhere(pages, base, end=","),
        " to ",
        say.count(recent),
        ", and the last four weeks are still down." if is_daily else "; without daily rows the last weeks are unknown.",
    )


def fell(pages: pd.DataFrame, base: pd.Series, recent: pd.Series, why: str, *, is_daily: bool) -> pd.Series:
    """Pages: taken_over; base, recent: clicks before and now; why: a sentence on why the cause is unknown."""
    return say.joined(
        "Clicks fell from ",
        say.count(base),
        _elsewhere(pages, base, end=","),
        " to ",
        say.count(recent),
        ", further than on most pages",
        ", and the last four weeks are still down. " if is_daily else ". ",
        pd.Series(why, index=pages.index),
    )


def counted_differently(since: str) -> str:
    """Why it is unknown by what clicks fell: impressions are counted differently since this day."""
    return f"Impressions are counted differently since {since}, so rank and demand cannot be told apart."


#: why it is unknown by what clicks fell, where only the mean positions of pages are known and say little
MIXED = "Its position is a mean of queries near the top and far down, so rank and CTR cannot be told apart."

#: the same where the export selects rows by their clicks
SELECTED = "The export left rows with few clicks out, so demand, rank and CTR cannot be told apart."


def _elsewhere(pages: pd.DataFrame, base: pd.Series, *, end: str = "") -> pd.Series:
    """What part of the earlier clicks (base) came at addresses that now redirect to the page; pages: taken_over."""
    every = say.joined(", all at its old address", pd.Series(end, index=pages.index))
    some = say.joined(", ", say.count(pages["taken_over"]), " of them at its old address", end)
    return every.where(base - pages["taken_over"] < 0.5, some).where(pages["taken_over"] >= 0.5, "")


def _part(name: str, clicks: pd.Series) -> pd.Series:
    """Demand cost 12; demand gave 3."""
    return say.joined(pd.Series(np.where(clicks < 0, f"{name} cost ", f"{name} gave "), index=clicks.index), say.count(clicks.abs()))


def below_the_clicks(pages: pd.DataFrame, queries: pd.Series, shown: pd.Series, first: pd.Series, sunk: pd.Series) -> pd.Series:
    """Pages: position_answered, clicks_answered, as_one; queries: number of such queries; shown: their impressions; first: the largest of
    them; sunk:
    ratio of the position to that in the reference window, null where it has not sunk.
    """
    stands = say.joined("Its mean position is ", say.place(pages["position_answered"]))
    drawn = say.joined(say.count(shown), " impressions, ", say.plural(pages["clicks_answered"], "click"), ".")
    count = say.plural(queries, "query")
    by_queries = say.joined(stands, " for ", count, ' that it answers, the largest "', first, '": ', drawn)
    before = say.joined(" It has sunk from ", say.place(pages["position_answered"] / sunk), "; the gain assumes a return there.").where(
        sunk.notna(), ""
    )
    return say.joined(by_queries.where(~pages["as_one"], say.joined(stands, ": ", drawn, " Its queries are unknown.")), before)


def seldom_chosen(pages: pd.DataFrame, usual: pd.Series, in_section: pd.Series, chance: pd.Series) -> pd.Series:
    """Pages: clicks_titled, impressions_titled, position_titled, queries_apart, section; usual: clicks that pages of this site usually have
    there, or where `in_section` those of its section; chance: the probability that the title is the reason.
    """
    doubt = say.joined(" Pages of this site differ by nature, too: the title is the reason with a probability of ", say.share(chance), ".")
    apart = say.joined(" (without ", say.plural(pages["queries_apart"], "query"), " where something else takes the clicks)")
    return say.joined(
        "Its CTR is ",
        say.percent(pages["clicks_titled"] / pages["impressions_titled"]),
        " at position ",
        say.place(pages["position_titled"]),
        say.joined(", where ", say.named(pages["section"]).where(in_section, "this site"), " usually has "),
        say.percent(usual / pages["impressions_titled"]),
        ": ",
        say.count(pages["clicks_titled"]),
        " clicks instead of ",
        say.count(usual),
        apart.where(pages["queries_apart"] > 0, ""),
        ". Rewrite title and description.",
        doubt.where(chance < SURE, ""),
    )


def disappoints(rate: pd.Series, sessions: pd.Series, usual: pd.Series, section: pd.Series) -> pd.Series:
    """Rate, usual: share of engaged sessions, here and on other pages of the section."""
    return say.joined(
        say.share(rate),
        " of ",
        say.plural(sessions, "session"),
        " from search were engaged, compared with ",
        say.share(usual),
        " on other pages of ",
        section,
        ".",
    )


def draws_unanswered(topics: pd.DataFrame) -> pd.Series:
    """Topics: topic, first (the query to name), queries, language, impressions, position of the largest one of each page."""
    named = say.joined(' on "', say.named(topics["topic"]), '"', asked_words(topics["language"], " in ", ""), " that no page answers.")
    others = say.joined(asked_words(topics["language"], " in ", ""), ' that no page answers, the largest "', say.named(topics["first"]), '".')
    return say.joined(
        "It has ",
        say.plural(topics["impressions"], "impression"),
        say.at_place(topics["position"]),
        " for ",
        say.plural(topics["queries"], "query"),
        named.where(topics["first"] == topics["topic"], others),
    )


def kept(
    pages: pd.DataFrame,
    by_demand: pd.Series,
    by_others: pd.Series,
    by_section: pd.Series,
    low_section: pd.Series,
    against: str,
    covered: int,
    hub: int,
) -> pd.Series:
    """The performance of a page, and the source of its change.

    Args:
        pages: the ledger; by_demand: whether it lost by demand; by_others: to other pages of the site; by_section: by pull, as its section did; low_section: whether its CTR is low,
            as everywhere in its section; against: the time of comparison; covered: days of the long window; hub: pages below it from which
            a page is a hub.
    """
    sold = say.joined("; it sells: ", say.plural(pages["conversions_long"], "conversion"), f" in {covered} days.")
    linked = say.joined("; it has ", say.plural(pages["backlinks"], "backlink"), ".")
    visits = say.joined(say.plural(pages["sessions_long"].fillna(0), "session"), " from all channels")
    visits = visits.where(pages["sessions_known"], "visits unknown")
    judged = say.joined("; a ", say.named(pages["purpose"]), " page, judged by its visits: ", visits, f" in {covered} days.")
    ways = say.joined("; it has the only link to ", say.plural(pages["only_way"], "page"), " with earnings.")
    visited = say.joined("; it is visited: ", visits, f" in {covered} days.")
    first, last = (say.named(pages[name].dt.strftime("%Y-%m-%d")) for name in ("event_from", "event_to"))
    peak = say.joined("; ", say.share(pages["event_share"]), " of its clicks came from ", first, " to ", last)
    over = say.joined(peak, ": that event is over.")
    perhaps = say.joined(peak, ": an event, or a season of which the data hold one.")
    idle = pages["clicks"].fillna(0) == 0
    common = say.joined(
        "; the loss is pull, as on most pages of ", say.named(pages["section"]), ": what results show beside them has changed."
    )
    low = say.joined(
        "; pages of ",
        say.named(pages["section"]),
        " have ",
        say.share(pages["section_pull"]),
        " of the CTR of others at the same positions.",
    )
    reasons: list[tuple[pd.Series, pd.Series | str]] = [
        (pages["event_sure"].eq(True), over),
        (pages["event_to"].notna(), perhaps),
        (pages["purpose"].notna(), judged),
        (idle & (pages["conversions_long"].fillna(0) > 0), sold),
        (idle & (pages["backlinks"].fillna(0) > 0), linked),
        (pages["blocked"], "; it is blocked from the index, see repairs."),
        (by_demand, "; the loss is demand: fewer people searched."),
        (by_others, say.joined("; ", say.named(pages["replaced_by"]), " took its place for the same queries.")),
        (by_section, common),
        (low_section, low),
        (pages["notice"] & idle, "; it is a legal notice, which stays."),
        (pages["protected"] & idle, "; it is protected."),
        (idle & (pages["only_way"].fillna(0) > 0), ways),
        (idle & pages["in_list"], "; it is a page of a list."),
        (idle & (pages["children"] >= hub), say.joined("; ", say.plural(pages["children"], "page"), " lie below it.")),
        (idle & (pages["sessions_long"].fillna(0) > 0), visited),
    ]
    reason = pd.Series(
        np.select([holds for holds, _ in reasons], [words for _, words in reasons], "; no rule asks for a change."), index=pages.index
    )
    base = pages["base"] + pages["taken_over"]
    before = say.joined(", ", say.count(base), f" {against}", _elsewhere(pages, base)).where(pages["reference_known"] & (base > 0), "")
    if not pages["in_search"].any():
        return say.joined(pd.Series("Its clicks are unknown, since no row of search names a page", index=pages.index), reason)
    return say.joined(say.plural(pages["clicks"], "click"), before, reason)
