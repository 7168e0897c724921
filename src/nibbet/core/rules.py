"""The rules that postpone a verdict for lack of data, and those that remove a page."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.findings import GAINS, Check, Facts, Finding, age_of, all_passed, finding_rows, is_hub, many_outlinks
from nibbet.core.groups import LIKE
from nibbet.core.ledger import MOVED, NEW_DAYS
from nibbet.core.verdict import Verdict
from nibbet.core.wording import verdicts as wording

#: confidence where too little is known: the next export may decide
TOLD_LITTLE = 0.8
#: probability below which visits without any engagement are none of people
CHANCE = 0.01


def young(facts: Facts) -> Finding:
    """watch: younger than the settled age, or too few days of data for any rule."""
    pages, limit = facts.pages, facts.settled
    age = age_of(pages)
    checks = [Check("age_days", age, f"< {limit}", str(facts.windows.as_of), "editorial, crawl or first day seen", age < limit)]
    chosen = all_passed(checks)
    because = wording.too_young(pages[chosen], age[chosen], limit)
    return Finding(Verdict.WATCH, "young", finding_rows(pages, chosen, "young", because, 1.0), checks)


def _known_days(facts: Facts) -> int:
    """Days of a year covered by searches, or by visits of all channels, which include those from search."""
    return max(facts.windows.covered_days, facts.windows.visit_days)


def unsettled(facts: Facts) -> Finding:
    """watch: it earned nothing, but the data cover less than a year of seasons."""
    pages, t, covered = facts.pages, facts.limits, _known_days(facts)
    days = pd.Series(float(covered), index=pages.index)
    checks = [
        *_nothing_earned(facts),
        Check("covered_days", days, f"< {t.covered_days}", str(facts.windows.long), "search, landings", days < t.covered_days),
    ]
    why = wording.short_history(pages.index, covered)
    return Finding(Verdict.WATCH, "thin", finding_rows(pages, all_passed(checks), "thin", why, TOLD_LITTLE), checks)


def _shown_share(facts: Facts) -> pd.Series:
    """The share of the long window since search first showed each page, at least that of the recent window; 1 for those shown from the beginning, or
    never. A page that is older than its first day in search may have been at another address before.
    """
    w, first = facts.windows, pd.to_datetime(facts.pages["first_seen"])
    shown = (pd.Timestamp(w.as_of) - first).dt.days + 1
    late = ((first - pd.Timestamp(w.first)).dt.days > NEW_DAYS).fillna(False)
    return (shown.clip(lower=w.recent.days) / w.covered_days).clip(upper=1.0).where(late, 1.0)


def of_machines(pages: pd.DataFrame) -> pd.Series:
    """Pages whose visits in the long window are those of machines: none was engaged or lasted a second, although people would have been by
    all but CHANCE if they were engaged half as often as on the site.

    Args:
        pages: sessions_long, engaged_sessions_long, engagement_seconds_long; null where the landings lack them.
    """
    sessions, engaged = (pages[name].fillna(0).to_numpy(np.float64) for name in ("sessions_long", "engaged_sessions_long"))
    usual = engaged.sum() / sessions.sum() if sessions.sum() else 0.0
    idle = (engaged == 0) & (pages["engagement_seconds_long"].fillna(0) == 0).to_numpy()
    return pd.Series(idle & (sessions > 0) & ((1 - min(usual, 1.0) / 2) ** sessions < CHANCE), index=pages.index)


def _hardly_visited(facts: Facts) -> pd.Series:
    return (facts.pages["sessions_long"].fillna(0) < facts.limits.prune_sessions) | of_machines(facts.pages)


def _nothing_earned(facts: Facts) -> list[Check]:
    pages, t, w = facts.pages, facts.limits, facts.windows
    visits = str(w.visits or w.long)
    long = str(w.long)

    def at_most(name: str, limit: float, source: str, window: str = long) -> Check:
        return Check(name, pages[name], f"< {limit:g}", window, source, pages[name].fillna(0) < limit)

    clicks, impressions = (facts.poor_below(measure) for measure in ("clicks", "impressions"))
    share = _shown_share(facts)

    def at_this_rate(name: str, limit: float) -> Check:
        figure = (pages[f"{name}_long"] / share).where(share < 1)
        return Check(f"{name}_at_this_rate", figure, f"< {limit:g}", long, "search", ~(figure >= limit), of_some=True)

    before = (
        [at_most("clicks_reference", clicks, "search", str(w.reference))] if w.covered_days < t.covered_days and w.reference_known else []
    )
    return [
        at_most("clicks_long", clicks, "search"),
        at_most("impressions_long", impressions, "search"),
        at_this_rate("clicks", clicks),
        at_this_rate("impressions", impressions),
        *before,
        Check(
            "sessions_long", pages["sessions_long"], f"< {t.prune_sessions}, or of machines", visits, "landings", _hardly_visited(facts)
        ),
        Check("conversions_long", pages["conversions_long"], "none", visits, "landings", pages["conversions_long"].fillna(0) == 0),
        Check("revenue_long", pages["revenue_long"], "none", visits, "landings", pages["revenue_long"].fillna(0) == 0),
        Check("backlinks", pages["backlinks"], "none", "all", "backlinks", pages["backlinks"].fillna(0) == 0),
    ]


def _earned_at_old_addresses(facts: Facts) -> pd.Series:
    """Whether a page earned in the long window if what its former addresses earned is counted with it."""
    before = {name: facts.pages[f"{name}_moved"].fillna(0).astype(float) for name in MOVED}
    enough = (before["conversions"] > 0) | (before["backlinks"] > 0)
    for name, limit in (("clicks", facts.poor_below("clicks")), ("sessions", facts.limits.prune_sessions)):
        together = before[name] + facts.pages[f"{name}_long"].fillna(0).astype(float)
        enough |= (before[name] > 0) & (together >= limit)
    return enough


def _needed_by_none(facts: Facts) -> list[Check]:
    """Further conditions for a page without earnings: settled data, and no other page or person needs it."""
    pages, t, long = facts.pages, facts.limits, facts.windows.long
    days = pd.Series(float(_known_days(facts)), index=pages.index)
    settings, crawled, many = "nibbet.toml, editorial, address, title", "crawl", many_outlinks(pages, t)
    before = _earned_at_old_addresses(facts)
    return [
        *_nothing_earned(facts),
        Check("earned_at_old_addresses", before.astype(float), "no", str(long), "search, landings, backlinks", ~before),
        Check("protected", pages["protected"].astype(float), "no", "all", settings, ~pages["protected"]),
        Check("outlinks", pages["outlinks"], f"< {many:.0f}", "all", crawled, pages["outlinks"].fillna(0) < many),
        Check("pages_below", pages["children"], f"< {t.hub_children}", "all", "addresses", pages["children"] < t.hub_children),
        Check("page_of_a_list", pages["in_list"].astype(float), "no", "all", "addresses", ~pages["in_list"]),
        Check("only_way_to", pages["only_way"], "none that earn", "all", "links", pages["only_way"].fillna(0) == 0),
        Check("main_way_to", pages["main_way"], f"< {t.hub_children}", "all", "links", pages["main_way"].fillna(0) < t.hub_children),
        Check("covered_days", days, f">= {t.covered_days}", str(long), "search, landings", days >= t.covered_days),
    ]


def _old_enough(facts: Facts) -> Check:
    """Whether a page is known to have existed long enough to find its position."""
    days, limit = facts.pages["known_days"], facts.settled
    return Check(
        "known_days", days, f">= {limit}", "all", "crawl, editorial, search, sitemap, hits", (days >= limit).fillna(False).astype(bool)
    )


def undated(facts: Facts) -> Finding:
    """watch: it earned nothing, or search hardly shows it, and no source dates it before its late first appearance, so it may be new."""
    pages, old, t = facts.pages, _old_enough(facts), facts.limits
    new = Check(old.measure, old.values, old.threshold.replace(">=", "<"), old.window, old.source, ~old.passed)  # type: ignore[attr-defined, operator]
    nothing = all_passed([*_needed_by_none(facts), _sources_suffice(facts)])
    reach = (facts.windows.as_of - facts.windows.first).days - NEW_DAYS  # pages present from the beginning of the data may be older
    late = (pages["known_days"] < reach).fillna(False).astype(bool)
    limit = facts.poor_below("clicks")
    is_poor = pages["clicks_long"].fillna(0) < limit
    free = ~pages["protected"] & ~is_hub(pages, t) & ~pages["in_list"]
    checks = [
        Check("clicks_long", pages["clicks_long"], f"< {limit:g}", str(facts.windows.long), "search", is_poor),
        Check("protected_or_hub", (~free).astype(float), "no", "all", "nibbet.toml, editorial, addresses, crawl, links", free),
        Check(
            "known_days", pages["known_days"], f"< {reach}, or none and it earns nothing", "all", "search, sitemap, hits", nothing | late
        ),
        new,
    ]
    chosen = all_passed(checks)
    because = wording.of_unknown_age(pages["known_days"][chosen], facts.settled)
    return Finding(Verdict.WATCH, "age unknown", finding_rows(pages, chosen, "age unknown", because, TOLD_LITTLE), checks)


def _sources_suffice(facts: Facts) -> Check:
    """How many of the sources that show whether a page is needed were given: landings and backlinks."""
    pages, least = facts.pages, {"both": 2, "one": 1, "none": 0}[facts.limits.prune_needs]
    visits = _visits_known(facts)
    given = visits.astype(int) + pages["backlinks_known"].astype(int)
    enough = (given >= least) & (visits | pages["purpose"].isna())
    return Check("landings_and_backlinks_given", given.astype(float), f">= {least}", "all", "landings, backlinks", enough)


def _visits_known(facts: Facts) -> pd.Series:
    """Whether visits are known for enough of a year to conclude that nobody comes."""
    return facts.pages["sessions_known"] & (facts.windows.visit_days >= facts.limits.covered_days)


def untold(facts: Facts) -> Finding:
    """watch: it earned nothing as far as is known, but a source that would show whether it is needed is missing."""
    pages, enough = facts.pages, _sources_suffice(facts)
    lacks = Check(enough.measure, enough.values, enough.threshold.replace(">=", "<"), enough.window, enough.source, ~enough.passed)  # type: ignore[attr-defined, operator]
    checks = [*_needed_by_none(facts), lacks]
    chosen = all_passed(checks)
    here = pages[chosen]
    visits = _visits_known(facts).reindex(here.index)
    year = f" over {facts.limits.covered_days} days" if facts.windows.visit_days else ""
    because = wording.source_missing(here, visits, year, facts.windows.covered_days)
    return Finding(Verdict.WATCH, "untold", finding_rows(pages, chosen, "untold", because, TOLD_LITTLE), checks)


def prune(facts: Facts) -> Finding:
    """prune: settled, without any earnings in the long window, and not needed by others."""
    pages, known = facts.pages, _sources_suffice(facts)
    checks = [*_needed_by_none(facts), known, _old_enough(facts)]
    chosen = all_passed(checks)
    here = pages[chosen]
    target = facts.covers.reindex(here.index)
    cover = pages["path"].reindex(target).set_axis(here.index)
    because = wording.earns_nothing(here, cover, facts.windows.covered_days, of_machines(pages)[chosen])
    sure = known.values.map({2.0: 0.97, 1.0: 0.6, 0.0: 0.3})
    zero = pd.DataFrame(0.0, index=pages.index, columns=GAINS)
    return Finding(Verdict.PRUNE, "dead", finding_rows(pages, chosen, "dead", because, sure, zero, target), checks)


def consolidate(facts: Facts) -> Finding:
    """consolidate: the members of a merge group other than its survivor; the net gain of the group is divided among them by impressions."""
    pages, groups = facts.pages, facts.groups
    if groups.empty:
        none = pd.Series(False, index=pages.index)
        never = Check(
            "overlap", pd.Series(np.nan, index=pages.index), f">= {facts.limits.overlap}", str(facts.windows.recent), "search", none
        )
        return Finding(
            Verdict.CONSOLIDATE, "duplicate", finding_rows(pages, none, "duplicate", pd.Series("", index=pages.index), 1.0), [never]
        )
    survivor = groups[groups["survivor"]].set_index("group")["page"]
    leaving = groups[~groups["survivor"]].merge(facts.group_gains, on="group", how="left").set_index("page")
    part = leaving["shared_impressions"] / leaving.groupby("group")["shared_impressions"].transform("sum")
    gains = leaving[GAINS].fillna(0.0).mul(part, axis=0)
    target = leaving["group"].map(survivor)
    because = wording.same_searches(leaving, pages["path"].reindex(target).set_axis(leaving.index))
    chosen = pd.Series(pages.index.isin(leaving.index), index=pages.index)
    recent, t = str(facts.windows.recent), facts.limits
    # less certain without daily rows
    sure = (0.7 + 0.5 * leaving["turn_taking"] + 0.3 * (leaving["overlap"] - 0.6)).clip(upper=0.99).fillna(0.7)
    twins = leaving["same_heading"] > 0
    sure = sure.clip(upper=leaving["one_search"].fillna(1.0).where(~twins, 1.0))
    figures = leaving[LIKE].reindex(pages.index)
    answers = f">= {t.each_answers}, {max(t.each_answers, t.alike_above)} where one lies above the other"
    is_twin = figures["same_heading"] > 0
    turns = (figures["turn_taking"] >= t.turn_taking) | is_twin if facts.windows.has_daily_pairs else None
    checks = [
        Check("overlap", figures["overlap"], f">= {t.overlap}", recent, "search", figures["overlap"] >= t.overlap),
        Check("turn_taking", figures["turn_taking"], f">= {t.turn_taking}", recent, "search", turns),
        Check("same_heading", is_twin.astype("float64").where(is_twin), "", recent, "crawl"),
        Check("one_search", figures["one_search"], f">= {t.one_search}", recent, "search, crawl"),
        Check("survivor_answers", figures["survivor_answers"], answers, recent, "search, crawl"),
        Check("own_question", figures["own_question"], f"< {t.own_question}", recent, "search, crawl"),
        Check("shared_impressions", figures["shared_impressions"], "", recent, "search"),
    ]
    return Finding(Verdict.CONSOLIDATE, "duplicate", finding_rows(pages, chosen, "duplicate", because, sure, gains, target), checks)
