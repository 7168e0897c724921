"""The rules: what each verdict asks of a page, the sentence and the evidence it gives, and the gain it promises."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import pandas as pd
from scipy import special

from nibbet.core import sentences as say
from nibbet.core.languages import asked_words
from nibbet.core.ledger import NEW_DAYS
from nibbet.core.pull import false_discovery, too_low_p
from nibbet.core.standing import Z80, Standing, with_withheld
from nibbet.core.thresholds import Thresholds
from nibbet.core.windows import MONTH_DAYS, Windows

GAINS = ["gain", "gain_low", "gain_high"]
#: how unsure an expectation of the CTR curve is for one page, beyond what pulls differ
CURVE_SPREAD = 0.08
#: how sure a verdict can be that rests on the totals of a page, without its queries: the place of a mean smears many
AS_ONE = 0.7
#: share of findings of one rule that may be chance (false discovery rate)
CHANCE = 0.05
#: clicks of the reference from which a share of them is told
LEAST_BASE = 20
#: what the split of a change may be wrong by, in logarithms
SPLIT_ERROR = 0.12
#: share of impressions below the clicks from which a page climbs rather than needs another answer
BELOW_CLICKS = 0.6
EVIDENCE = ["page", "verdict", "measure", "value", "threshold", "window", "source"]


@dataclass
class Check:
    """One figure a rule looks at, per page; `passed` is None where the figure is shown but nothing is asked of it."""

    measure: str
    values: pd.Series
    threshold: object
    window: str
    source: str
    passed: pd.Series | None = None


@dataclass
class Finding:
    """What one rule says: rows (page as index) with cause, because, gains, target, sure (0..1), and the checks behind them."""

    verdict: str
    cause: str
    rows: pd.DataFrame
    checks: list[Check]

    def evidence(self, pages: pd.Index) -> pd.DataFrame:
        """The checks of these pages, of which the rule speaks: EVIDENCE."""
        parts = [
            pd.DataFrame(
                {
                    "page": pages,
                    "verdict": self.verdict,
                    "measure": check.measure,
                    "value": check.values.reindex(pages).to_numpy(dtype=float),
                    "threshold": str(check.threshold),
                    "window": check.window,
                    "source": check.source,
                }
            )
            for check in self.checks
            if len(check.values)
        ]
        return pd.concat(parts, ignore_index=True) if len(pages) and parts else pd.DataFrame(columns=EVIDENCE)


def _all(checks: list[Check]) -> pd.Series:
    """Which pages pass every check."""
    asked = [check.passed.fillna(False).astype(bool) for check in checks if check.passed is not None]
    return pd.concat(asked, axis=1).all(axis=1)


@dataclass
class Facts:
    """All that the rules read.

    settled: days after which a page has found its place. pages: one row per page, indexed by page number; the columns of pages.csv (without verdicts) and is_page, age_days, first_seen, children, protected,
    position_reference, noise (between the windows, see `core.compare.page_noise`), demand, rank, pull_part, expected_answered, clicks_answered, sessions_known, backlinks_known, purpose (null for
    pages that are there for search). climbs: see `core.openings.climbs_of_pages`.
    """

    pages: pd.DataFrame
    climbs: pd.DataFrame
    groups: pd.DataFrame
    group_gains: pd.DataFrame
    stray_topics: pd.DataFrame
    covers: pd.Series
    windows: Windows
    limits: Thresholds = field(default_factory=Thresholds)  # type: ignore[arg-type]
    settled: int = 180
    standing: Standing = field(default_factory=Standing)


def _age(pages: pd.DataFrame) -> pd.Series:
    return pages["age_days"].fillna(10_000)


def is_hub(pages: pd.DataFrame, limits: Thresholds) -> pd.Series:
    """Pages by which others are reached: by the tree of addresses, by their links out, or as the only or main way to living pages."""
    below, out = pages["children"] >= limits.hub_children, pages["outlinks"].fillna(0) >= limits.hub_outlinks
    way = (pages["only_way"].fillna(0) > 0) | (pages["main_way"].fillna(0) >= limits.hub_children)
    return below | out | way.astype(bool)


def stays(pages: pd.DataFrame, limits: Thresholds, settled: int) -> pd.Series:
    """Pages that are never merged away: protected, new, hubs, or not there for search."""
    return pages["protected"] | is_hub(pages, limits) | (_age(pages) < settled) | pages["purpose"].notna()


def _rows(
    pages: pd.DataFrame,
    chosen: pd.Series,
    cause: str,
    because: pd.Series,
    sure: pd.Series | float,
    gains: pd.DataFrame | None = None,
    target: pd.Series | None = None,
) -> pd.DataFrame:
    at = pages.index[chosen]
    table = pd.DataFrame(
        {"cause": cause, "because": because.reindex(at), "sure": sure if isinstance(sure, float) else sure.reindex(at)}, index=at
    )
    for name in GAINS:
        table[name] = gains[name].reindex(at) if gains is not None else np.nan
    table["target"] = target.reindex(at) if target is not None else np.nan
    return table


def _not_blocked(pages: pd.DataFrame) -> Check:
    return Check("kept_out_of_the_index", pages["blocked"].astype(float), "no", "now", "crawl", ~pages["blocked"])


def young(facts: Facts) -> Finding:
    """watch: younger than the settled age, or no rule can be judged for want of days."""
    pages, limit = facts.pages, facts.settled
    age = _age(pages)
    checks = [Check("age_days", age, f"< {limit}", str(facts.windows.as_of), "editorial, crawl or first day seen", age < limit)]
    chosen = _all(checks)
    here = pages[chosen]
    since = np.where(here["published"].notna(), "Published ", "First seen ")
    because = say.joined(
        pd.Series(since, index=here.index),
        say.named(here["born"].dt.strftime("%Y-%m-%d")),
        ", ",
        say.count(age[chosen]),
        f" days ago: too young to judge before {limit}.",
    )
    return Finding("watch", "young", _rows(pages, chosen, "young", because, 1.0), checks)


def _known_days(facts: Facts) -> int:
    """How many days of a year anything covers: searches, or visits of all channels, which hold those from search too."""
    return max(facts.windows.covered_days, facts.windows.visit_days)


def unsettled(facts: Facts) -> Finding:
    """watch: it earned nothing, but over fewer days than a year's seasons need."""
    pages, t, covered = facts.pages, facts.limits, _known_days(facts)
    days = pd.Series(float(covered), index=pages.index)
    checks = [
        *_nothing_earned(facts),
        Check("covered_days", days, f"< {t.covered_days}", str(facts.windows.long), "search, landings", days < t.covered_days),
    ]
    why = pd.Series(f"It earned next to nothing, but the data hold only {covered} days: its season may be missing.", index=pages.index)
    return Finding("watch", "thin", _rows(pages, _all(checks), "thin", why, 0.8), checks)


def _nothing_earned(facts: Facts) -> list[Check]:
    pages, t, w = facts.pages, facts.limits, facts.windows
    visits = str(w.visits or w.long)
    long, part = str(w.long), min(1.0, w.covered_days / t.covered_days)  # of a shorter window less is asked

    def few(name: str, limit: float, source: str, window: str = long) -> Check:
        return Check(name, pages[name], f"< {limit:g}", window, source, pages[name].fillna(0) < limit)

    clicks, impressions = (round(limit * part, 1) for limit in (t.prune_clicks, t.prune_impressions))
    before = [few("clicks_reference", clicks, "search", str(w.reference))] if part < 1 and w.reference_known else []
    return [
        few("clicks_long", clicks, "search"),
        few("impressions_long", impressions, "search"),
        *before,
        few("sessions_long", t.prune_sessions, "landings", visits),
        Check("conversions_long", pages["conversions_long"], "none", visits, "landings", pages["conversions_long"].fillna(0) == 0),
        Check("revenue_long", pages["revenue_long"], "none", visits, "landings", pages["revenue_long"].fillna(0) == 0),
        Check("backlinks", pages["backlinks"], "none", "all", "backlinks", pages["backlinks"].fillna(0) == 0),
    ]


def _needed_by_none(facts: Facts) -> list[Check]:
    """What a page without earnings must pass besides: settled data, and no other page or person needs it."""
    pages, t, long = facts.pages, facts.limits, facts.windows.long
    days = pd.Series(float(_known_days(facts)), index=pages.index)
    settings, crawled = "nibbet.toml, editorial", "crawl"
    return [
        *_nothing_earned(facts),
        Check("protected", pages["protected"].astype(float), "no", "all", settings, ~pages["protected"]),
        Check("outlinks", pages["outlinks"], f"< {t.hub_outlinks}", "all", crawled, pages["outlinks"].fillna(0) < t.hub_outlinks),
        Check("pages_below", pages["children"], f"< {t.hub_children}", "all", "addresses", pages["children"] < t.hub_children),
        Check("only_way_to", pages["only_way"], "none that earn", "all", "links", pages["only_way"].fillna(0) == 0),
        Check("main_way_to", pages["main_way"], f"< {t.hub_children}", "all", "links", pages["main_way"].fillna(0) < t.hub_children),
        Check("covered_days", days, f">= {t.covered_days}", str(long), "search, landings", days >= t.covered_days),
    ]


def _old_enough(facts: Facts) -> Check:
    """Whether a page is known to have been there long enough to find its place."""
    days, limit = facts.pages["known_days"], facts.settled
    return Check(
        "known_days", days, f">= {limit}", "all", "crawl, editorial, search, sitemap, hits", (days >= limit).fillna(False).astype(bool)
    )


def undated(facts: Facts) -> Finding:
    """watch: it earned nothing, or search hardly shows it and no source dates it before its late first sign: it may be new."""
    pages, old, t = facts.pages, _old_enough(facts), facts.limits
    new = Check(old.measure, old.values, old.threshold.replace(">=", "<"), old.window, old.source, ~old.passed)  # type: ignore[attr-defined, operator]
    nothing = _all([*_needed_by_none(facts), _told(facts)])
    reach = (facts.windows.as_of - facts.windows.first).days - NEW_DAYS  # what the data show from their beginning may be older
    late = (pages["known_days"] < reach).fillna(False).astype(bool)
    few = pages["clicks_long"].fillna(0) < t.prune_clicks
    free = ~pages["protected"] & ~is_hub(pages, t)
    checks = [
        Check("clicks_long", pages["clicks_long"], f"< {t.prune_clicks}", str(facts.windows.long), "search", few),
        Check("protected_or_hub", (~free).astype(float), "no", "all", "nibbet.toml, editorial, addresses, crawl, links", free),
        Check(
            "known_days", pages["known_days"], f"< {reach}, or none and it earns nothing", "all", "search, sitemap, hits", nothing | late
        ),
        new,
    ]
    chosen = _all(checks)
    here = pages[chosen]
    first = here["known_days"].notna()
    because = say.joined(
        pd.Series(
            np.where(
                first,
                "It may be new: its first sign is " + here["known_days"].astype("Int64").astype("str") + " days old",
                "It may be new: no source tells since when it is there",
            ),
            index=here.index,
        ),
        f", and no page is judged before {facts.settled}. Its date of publication would tell.",
    )
    return Finding("watch", "age unknown", _rows(pages, chosen, "age unknown", because, 0.8), checks)


def _told(facts: Facts) -> Check:
    """How many of the sources that would tell whether a page is needed were given: landings and backlinks."""
    pages, least = facts.pages, {"both": 2, "one": 1, "none": 0}[facts.limits.prune_needs]
    visits = _visits_known(facts)
    given = visits.astype(int) + pages["backlinks_known"].astype(int)
    enough = (given >= least) & (visits | pages["purpose"].isna())
    return Check("landings_and_backlinks_given", given.astype(float), f">= {least}", "all", "landings, backlinks", enough)


def _visits_known(facts: Facts) -> pd.Series:
    """Whether visits are known over enough of a year to say that nobody comes."""
    return facts.pages["sessions_known"] & (facts.windows.visit_days >= facts.limits.covered_days)


def untold(facts: Facts) -> Finding:
    """watch: it earned nothing that is known, but a source that would tell whether it is needed is missing."""
    pages, enough = facts.pages, _told(facts)
    lacks = Check(enough.measure, enough.values, enough.threshold.replace(">=", "<"), enough.window, enough.source, ~enough.passed)  # type: ignore[attr-defined, operator]
    checks = [*_needed_by_none(facts), lacks]
    chosen = _all(checks)
    here = pages[chosen]
    visits = _visits_known(facts).reindex(here.index)
    year = f" over {facts.limits.covered_days} days" if facts.windows.visit_days else ""
    missing = np.select(
        [~visits & ~here["backlinks_known"], ~visits],
        [f"visits{year} and links from outside", f"visits and conversions{year}"],
        "links from outside",
    )
    because = say.joined(
        say.plural(here["clicks_long"], "click"),
        ", ",
        say.plural(here["impressions_long"], "impression"),
        f" in {facts.windows.covered_days} days, but no source tells of ",
        pd.Series(missing, index=here.index),
        ": add it before you remove the page.",
    )
    return Finding("watch", "untold", _rows(pages, chosen, "untold", because, 0.8), checks)


def prune(facts: Facts) -> Finding:
    """prune: settled, earning nothing anywhere over the long window, and none that others need."""
    pages, told = facts.pages, _told(facts)
    checks = [*_needed_by_none(facts), told, _old_enough(facts)]
    chosen = _all(checks)
    here = pages[chosen]
    target = facts.covers.reindex(here.index)
    visits = say.joined(say.plural(here["sessions_long"], "session"), ", no conversion").where(here["sessions_known"], "visits unknown")
    links = pd.Series(np.where(here["backlinks_known"], ", no link from outside", ", links from outside unknown"), index=here.index)
    cover = ("; " + pages["path"].reindex(target).set_axis(here.index) + " covers its subject.").where(
        target.notna(), "; no page covers its subject."
    )
    because = say.joined(
        say.plural(here["clicks_long"], "click"),
        ", ",
        say.plural(here["impressions_long"], "impression"),
        ", ",
        visits,
        links,
        f" in {facts.windows.covered_days} days",
        cover,
    )
    sure = told.values.map({2.0: 0.97, 1.0: 0.6, 0.0: 0.3})
    zero = pd.DataFrame(0.0, index=pages.index, columns=GAINS)
    return Finding("prune", "dead", _rows(pages, chosen, "dead", because, sure, zero, target), checks)


def consolidate(facts: Facts) -> Finding:
    """consolidate: the members of a merge group other than its survivor; the group's net gain is split over them by impressions."""
    pages, groups = facts.pages, facts.groups
    if groups.empty:
        none = pd.Series(False, index=pages.index)
        never = Check(
            "overlap", pd.Series(np.nan, index=pages.index), f">= {facts.limits.overlap}", str(facts.windows.recent), "search", none
        )
        return Finding("consolidate", "duplicate", _rows(pages, none, "duplicate", pd.Series("", index=pages.index), 1.0), [never])
    survivor = groups[groups["survivor"]].set_index("group")["page"]
    leaving = groups[~groups["survivor"]].merge(facts.group_gains, on="group", how="left").set_index("page")
    part = leaving["shared_impressions"] / leaving.groupby("group")["shared_impressions"].transform("sum")
    gains = leaving[GAINS].fillna(0.0).mul(part, axis=0)
    target = leaving["group"].map(survivor)
    because = say.joined(
        "It and ",
        pages["path"].reindex(target).set_axis(leaving.index),
        " answer the same searches: ",
        say.share(leaving["overlap"]),
        " of the impressions of one fall on queries of both",
        say.joined(", and on ", say.share(leaving["turn_taking"]), " of days the lead changes").where(leaving["turn_taking"].notna(), ""),
        ".",
    )
    chosen = pd.Series(pages.index.isin(leaving.index), index=pages.index)
    recent, t = str(facts.windows.recent), facts.limits
    sure = (0.7 + 0.5 * leaving["turn_taking"] + 0.3 * (leaving["overlap"] - 0.6)).clip(upper=0.99).fillna(0.7)  # days would tell more
    sure = sure.clip(upper=leaving["one_search"].fillna(1.0))
    figures = leaving[["overlap", "turn_taking", "one_search", "shared_impressions"]].reindex(pages.index)
    turns = figures["turn_taking"] >= t.turn_taking if facts.windows.has_daily_pairs else None
    checks = [
        Check("overlap", figures["overlap"], f">= {t.overlap}", recent, "search", figures["overlap"] >= t.overlap),
        Check("turn_taking", figures["turn_taking"], f">= {t.turn_taking}", recent, "search", turns),
        Check("one_search", figures["one_search"], f">= {t.one_search}", recent, "search, crawl"),
        Check("shared_impressions", figures["shared_impressions"], "", recent, "search"),
    ]
    return Finding("consolidate", "duplicate", _rows(pages, chosen, "duplicate", because, sure, gains, target), checks)


def decay(facts: Facts) -> Finding:
    """refresh, cause decay: clicks lost by rank or pull, not by demand, still down in the last four weeks."""
    pages, t, w = facts.pages, facts.limits, facts.windows
    base, recent = pages["base"], pages["clicks"].fillna(0).astype(float)
    lost = -(pages["rank"] + pages["pull_part"])
    share = lost / base.where(base >= LEAST_BASE)
    mean = np.where(np.isclose(recent, base), base, (recent - base) / np.log((recent + 0.5) / (base + 0.5)))
    ratio = np.exp(np.clip(-lost / np.maximum(mean, 1e-9), -4.0, 0.0))
    noise = np.sqrt(1 / (recent + 0.5) + 1 / (base + 0.5) + pages["noise"] ** 2)
    z = (-np.log(ratio) - SPLIT_ERROR) / noise
    q = pd.Series(false_discovery(np.where(share.notna() & pages["reference_known"], special.ndtr(-z), np.nan)), index=pages.index)
    lasting = pages["clicks_last28"] < (1 - t.decay_share / 2) * base * 28 / w.recent.days * np.exp(
        np.clip(pages["demand"] / np.maximum(mean, 1e-9), -1.6, 0.4)
    )
    between = f"{w.recent} against {w.reference}"
    four = pages["clicks_last28"] / (base * 28 / w.recent.days).where(base > 0)
    checks = [
        Check("lost_by_rank_and_pull_share", share, f">= {t.decay_share}", between, "search", share >= t.decay_share),
        Check("rank", pages["rank"], "", between, "search"),
        Check("pull", pages["pull_part"], "", between, "search"),
        Check("demand", pages["demand"], "", between, "search"),
        Check("clicks", recent, "< reference", between, "search", recent < base),
        Check("q_value", q, f"< {CHANCE}", str(w.recent), "search", q < CHANCE),
        Check("last_four_weeks_share", four, "still down", "the last 28 days", "search", lasting),
        _not_blocked(pages),
    ]
    if not w.is_daily:  # months and periods have no last weeks
        checks = [check for check in checks if check.measure != "last_four_weeks_share"]
    chosen = _all(checks)
    month, unsure = MONTH_DAYS / w.recent.days, np.sqrt(1 / (recent + 0.5) + 1 / (base + 0.5) + 2 * 0.1**2)
    gains = pd.DataFrame(
        {
            name: (recent * (np.exp(np.clip(-np.log(ratio) + end * unsure, 0.0, 4.0)) - 1)).clip(upper=1.5 * base) * month
            for name, end in (("gain", 0.0), ("gain_low", -Z80), ("gain_high", Z80))
        }
    )
    here = pages[chosen]
    by_rank = -here["rank"] >= -here["pull_part"]
    how = (
        "Rank cost "
        + say.count(-here["rank"])
        + " clicks (position "
        + say.place(here["position_reference"])
        + " to "
        + say.place(here["position"])
        + ")"
    ).where(by_rank, "Pull cost " + say.count(-here["pull_part"]) + " clicks (CTR fell at the same place)")
    dated = here["since"].notna() & here["trend"].isin(["collapse", "slow decay"])
    since = (" since the week of " + here["since"].dt.strftime("%Y-%m-%d").fillna("")).where(dated, "")
    other = pd.Series(np.where(here["demand"] < 0, "demand cost ", "demand gave "), index=here.index) + say.count(here["demand"].abs())
    because = say.joined(
        how,
        since,
        "; ",
        other,
        ". ",
        say.count(base[chosen]),
        " clicks became ",
        say.count(recent[chosen]),
        ", and the last four weeks are still down." if w.is_daily else "; no days tell of the last weeks.",
    )
    sure = (1 - q).clip(0, 0.99 if w.is_daily else 0.85)
    return Finding("refresh", "decay", _rows(pages, chosen, "decay", because, sure, gains), checks)


def climb(facts: Facts) -> Finding:
    """refresh, cause climb: most of what the page answers stands just below where clicks begin."""
    pages, t, w = facts.pages, facts.limits, facts.windows
    of_page = facts.climbs.reindex(pages.index)
    gains = of_page[GAINS].fillna(0.0).mul(with_withheld(facts.pages["withheld_share"]), axis=0)
    queries, on_climb, best = of_page["queries"].fillna(0), of_page["shown"].fillna(0), say.named(of_page["first"])
    share = on_climb / pages["impressions_answered"].where(pages["impressions_answered"] > 0)
    own = gains["gain"] * w.recent.days / MONTH_DAYS / pages["clicks"].fillna(0).where(pages["clicks"].fillna(0) > 0)
    search, curve = "search", "search, own CTR curve"
    checks = [
        Check("impressions_share_below_clicks", share, f">= {BELOW_CLICKS}", str(w.recent), search, share >= BELOW_CLICKS),
        Check("gain", gains["gain"], f">= {t.min_gain}", str(w.recent), curve, gains["gain"] >= t.min_gain),
        Check("gain_low", gains["gain_low"], f">= {t.min_gain / 3:.2g}", str(w.recent), curve, gains["gain_low"] >= t.min_gain / 3),
        Check("gain_of_own_clicks", own, f">= {t.climb_share}", str(w.recent), curve, own.fillna(np.inf) >= t.climb_share),
        _not_blocked(pages),
    ]
    chosen = _all(checks)
    here = pages[chosen]
    by_queries = say.joined(
        "It stands at position ",
        say.place(here["position_answered"]),
        ", just below the clicks, for ",
        say.plural(queries[chosen], "query").str.replace("querys", "queries"),
        " that it answers, first ",
        '"' + best[chosen] + '"',
        ": ",
        say.count(on_climb[chosen]),
        " impressions, ",
        say.plural(here["clicks_answered"], "click"),
        ".",
    )
    as_one = say.joined(
        "It stands at position ",
        say.place(here["position_answered"]),
        ", just below the clicks: ",
        say.count(on_climb[chosen]),
        " impressions, ",
        say.plural(here["clicks_answered"], "click"),
        ". No queries tell what it is shown for.",
    )
    sure = (0.75 + 0.2 * share).clip(0, 0.97).where(~pages["as_one"], AS_ONE)
    return Finding("refresh", "climb", _rows(pages, chosen, "climb", by_queries.where(~here["as_one"], as_one), sure, gains), checks)


def snippet(facts: Facts) -> Finding:
    """refresh, cause snippet: well placed for what it answers, yet chosen far less than usual there."""
    pages, t, w = facts.pages, facts.limits, facts.windows
    clicks, expected = pages["clicks_answered"].fillna(0).to_numpy(float), pages["expected_answered"].fillna(0).to_numpy(float)
    pull = pd.Series(np.where(expected > 0, clicks / np.maximum(expected, 1e-9), np.nan), index=pages.index)
    q = pd.Series(false_discovery(np.where(expected >= 3, too_low_p(clicks, expected, below=t.snippet_pull), np.nan)), index=pages.index)
    usual = expected * facts.standing.pull
    noise = Z80 * np.hypot(usual * np.hypot(facts.standing.pull_spread, CURVE_SPREAD), np.sqrt(clicks + 1))
    whole = (with_withheld(facts.pages["withheld_share"]) * MONTH_DAYS / w.recent.days).to_numpy()
    ends = (("gain", 0.0), ("gain_low", -1.0), ("gain_high", 1.0))
    gains = pd.DataFrame({name: np.maximum(usual - clicks + end * noise, 0.0) * whole for name, end in ends}, index=pages.index)
    curve, least = "search, own CTR curve", t.min_gain / 2
    checks = [
        Check("pull_of_answered_queries", pull, f"< {t.snippet_pull}", str(w.recent), curve, pull < t.snippet_pull),
        Check("expected_clicks", pages["expected_answered"], ">= 3", str(w.recent), curve, pages["expected_answered"] >= 3),
        Check("q_value", q, f"< {CHANCE}", str(w.recent), "search", q < CHANCE),
        Check("position_answered", pages["position_answered"], "<= 10", str(w.recent), "search", pages["position_answered"] <= 10),
        Check("gain", gains["gain"], f">= {least:g}", str(w.recent), curve, gains["gain"] >= least),
        _not_blocked(pages),
    ]
    chosen = _all(checks)
    here = pages[chosen]
    because = say.joined(
        "Its CTR is ",
        say.percent(here["clicks_answered"] / here["impressions_answered"]),
        " at position ",
        say.place(here["position_answered"]),
        ", where this site usually has ",
        say.percent(here["expected_answered"] / here["impressions_answered"]),
        ": ",
        say.count(here["clicks_answered"]),
        " clicks instead of ",
        say.count(here["expected_answered"]),
        ". Rewrite title and description.",
    )
    sure = (1 - q).clip(0, 0.99).where(~pages["as_one"], AS_ONE)
    return Finding("refresh", "snippet", _rows(pages, chosen, "snippet", because, sure, gains), checks)


def engagement(facts: Facts) -> Finding:
    """refresh, cause engagement: visitors from search leave unlike those of its section. It brings no clicks, so its gain is 0."""
    pages, t, w = facts.pages, facts.limits, facts.windows
    sessions, engaged = pages["sessions_organic_long"].fillna(0).astype(float), pages["engaged_organic_long"].fillna(0).astype(float)
    section = pages["section"]
    rest_sessions = sessions.groupby(section).transform("sum") - sessions + sessions.sum() * 0.02
    rest_engaged = engaged.groupby(section).transform("sum") - engaged + engaged.sum() * 0.02
    usual = (rest_engaged / rest_sessions.where(rest_sessions > 0)).fillna(0.5).clip(0.01, 0.99)
    rate = engaged / sessions.where(sessions > 0)
    spread = np.sqrt(usual * (1 - usual) / sessions.clip(lower=1) + (0.08 * usual) ** 2)
    p = np.where(sessions >= t.engagement_sessions, special.ndtr((rate - t.engagement_share * 1.1 * usual) / spread), np.nan)
    q = pd.Series(false_discovery(p), index=pages.index)
    limit, long = f"< {t.engagement_share} x that of its section", str(w.long)
    enough = sessions >= t.engagement_sessions
    checks = [
        Check("engagement_rate", rate, limit, long, "landings", (rate < t.engagement_share * usual) & bool(engaged.sum() > 0)),
        Check("engagement_rate_of_section", usual, "", long, "landings"),
        Check("sessions_organic_long", sessions, f">= {t.engagement_sessions}", long, "landings", enough),
        Check("q_value", q, f"< {CHANCE}", long, "landings", q < CHANCE),
        _not_blocked(pages),
    ]
    chosen = _all(checks)
    because = say.joined(
        say.share(rate[chosen]),
        " of ",
        say.plural(sessions[chosen], "session"),
        " from search engaged, against ",
        say.share(usual[chosen]),
        " on other pages of ",
        section[chosen],
        ": it does not give what they came for.",
    )
    zero = pd.DataFrame(0.0, index=pages.index, columns=GAINS)
    return Finding("refresh", "engagement", _rows(pages, chosen, "engagement", because, (1 - q).clip(0, 0.99), zero), checks)


def expand(facts: Facts) -> Finding:
    """expand: it draws real volume on a topic that no page of the site answers."""
    pages, t, w = facts.pages, facts.limits, facts.windows
    topics = facts.stray_topics[(facts.stray_topics["impressions"] >= t.stray_impressions) & (facts.stray_topics["gain"] >= t.min_gain)]
    best = topics.sort_values(["page", "gain", "topic"], ascending=[True, False, True]).drop_duplicates("page").set_index("page")
    sums = topics.groupby("page")[GAINS].sum().reindex(pages.index).mul(with_withheld(facts.pages["withheld_share"]), axis=0)
    at = best.reindex(pages.index)
    checks = [
        Check("stray_impressions", at["impressions"], f">= {t.stray_impressions}", str(w.recent), "search", at["topic"].notna()),
        Check("stray_position", at["position"], "", str(w.recent), "search"),
        Check("gain", sums["gain"], f">= {t.min_gain}", str(w.recent), "search, own CTR curve", sums["gain"] >= t.min_gain),
        _not_blocked(pages),
    ]
    chosen = _all(checks)
    said = at[chosen]
    because = say.joined(
        "No page answers ",
        say.plural(said["queries"], "query").str.replace("querys", "queries"),
        ' on "',
        say.named(said["topic"]),
        '", ',
        asked_words(said["language"], "asked in ", ", "),
        "for which it is shown ",
        say.count(said["impressions"]),
        " times at position ",
        say.place(said["position"]),
        ".",
    )
    return Finding("expand", "strays", _rows(pages, chosen, "strays", because, 0.9, sums), checks)
