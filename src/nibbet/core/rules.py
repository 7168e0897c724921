"""The rules: what each verdict asks of a page, the sentence and the evidence it gives, and the gain it promises."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import pandas as pd
from scipy import stats

from nibbet.core import sentences as say
from nibbet.core.pull import false_discovery, too_low_p
from nibbet.core.windows import MONTH_DAYS, Windows

GAINS = ["gain", "gain_low", "gain_high"]
EVIDENCE = ["page", "verdict", "measure", "value", "threshold", "window", "source"]


@dataclass(frozen=True)
class Thresholds:
    """Every figure a rule is held against; the settings table [verdicts] of nibbet.toml has the same names."""

    settled: int = 180
    prune_clicks: int = 20
    prune_impressions: int = 600
    prune_sessions: int = 10
    hub_outlinks: int = 30
    hub_children: int = 3
    overlap: float = 0.55
    shared_queries: int = 3
    turn_taking: float = 0.12
    decay_share: float = 0.25
    climb_share: float = 0.5
    snippet_pull: float = 0.7
    engagement_share: float = 0.7
    engagement_sessions: int = 50
    stray_impressions: int = 300
    min_gain: float = 5.0
    covered_days: int = 300


@dataclass
class Finding:
    """What one rule says: rows (page as index) with cause, because, gains, target, sure (0..1), and the evidence behind them."""

    verdict: str
    rows: pd.DataFrame
    evidence: pd.DataFrame


@dataclass
class Facts:
    """All that the rules read.

    pages: one row per page, indexed by page number; the columns of pages.csv (without verdicts) and age_days, first_seen, children, protected,
    position_reference, demand, rank, pull_part, expected_answered, clicks_answered, sessions_known, backlinks_known.
    """

    pages: pd.DataFrame
    openings: pd.DataFrame
    groups: pd.DataFrame
    group_gains: pd.DataFrame
    stray_topics: pd.DataFrame
    covers: pd.Series
    windows: Windows
    limits: Thresholds = field(default_factory=Thresholds)


def _age(pages: pd.DataFrame) -> pd.Series:
    return pages["age_days"].fillna(10_000)


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


def _proof(rows: pd.DataFrame, verdict: str, pages: pd.DataFrame, measures: list[tuple[str, pd.Series, object, str, str]]) -> pd.DataFrame:
    """Evidence rows of a rule: (measure, values by page, threshold, window, source)."""
    name = verdict + ":" + rows["cause"]
    parts = [
        pd.DataFrame(
            {
                "page": rows.index,
                "verdict": name.to_numpy(),
                "measure": measure,
                "value": values.reindex(rows.index).to_numpy(dtype=float),
                "threshold": str(threshold),
                "window": window,
                "source": source,
            }
        )
        for measure, values, threshold, window, source in measures
    ]
    return pd.concat(parts, ignore_index=True) if len(rows) else pd.DataFrame(columns=EVIDENCE)


def young(facts: Facts) -> Finding:
    """watch: younger than the settled age, or no rule can be judged for want of days."""
    pages, limit = facts.pages, facts.limits.settled
    age = _age(pages)
    chosen = age < limit
    since = np.where(pages["published"].notna(), "Published ", "First seen ")
    because = say.joined(
        pd.Series(since, index=pages.index),
        say.named(pages["born"].dt.strftime("%Y-%m-%d")),
        ", ",
        say.count(age.where(chosen, 0)),
        f" days before {facts.windows.as_of}: too young to judge before {limit} days.",
    )
    rows = _rows(pages, chosen, "young", because, 1.0)
    short = ~chosen & _earns_nothing(facts) & (facts.windows.covered_days < facts.limits.covered_days)
    why = pd.Series(
        f"It earned next to nothing, but the data reach only {facts.windows.covered_days} days back: a season may be missing.",
        index=pages.index,
    )
    rows = pd.concat([rows, _rows(pages, short, "thin", why, 0.8)])
    return Finding(
        "watch",
        rows,
        _proof(rows, "watch", pages, [("age_days", age, f"< {limit}", str(facts.windows.as_of), "editorial, crawl or first day seen")]),
    )


def _earns_nothing(facts: Facts) -> pd.Series:
    pages, t = facts.pages, facts.limits

    def zero(name: str) -> pd.Series:
        return pages[name].fillna(0)

    return (
        (zero("clicks_long") < t.prune_clicks)
        & (zero("impressions_long") < t.prune_impressions)
        & (zero("sessions_long") < t.prune_sessions)
        & (zero("conversions_long") == 0)
        & (zero("revenue_long") == 0)
        & (zero("backlinks") == 0)
    )


def prune(facts: Facts) -> Finding:
    """prune: settled, earning nothing anywhere over the long window, and none that others need."""
    pages, t, long = facts.pages, facts.limits, facts.windows.long
    known = pages["sessions_known"] | pages["backlinks_known"]
    hub = (pages["outlinks"].fillna(0) >= t.hub_outlinks) | (pages["children"] >= t.hub_children)
    chosen = _earns_nothing(facts) & ~pages["protected"] & ~hub & known & (facts.windows.covered_days >= t.covered_days)
    target = facts.covers.reindex(pages.index)
    visits = say.joined(say.plural(pages["sessions_long"], "session"), " from all channels, no conversion").where(
        pages["sessions_known"], "visits unknown"
    )
    links = pd.Series(np.where(pages["backlinks_known"], ", no link from outside", ", links from outside unknown"), index=pages.index)
    cover = ("; " + pages["path"].reindex(target).set_axis(pages.index) + " covers its subject.").where(
        target.notna(), "; no page covers its subject."
    )
    because = say.joined(
        "From ",
        str(long.start),
        " to ",
        str(long.end),
        ": ",
        say.plural(pages["clicks_long"], "click"),
        ", ",
        say.plural(pages["impressions_long"], "impression"),
        ", ",
        visits,
        links,
        cover,
    )
    sure = pd.Series(np.where(pages["sessions_known"] & pages["backlinks_known"], 0.97, 0.6), index=pages.index)
    zero = pd.DataFrame(0.0, index=pages.index, columns=GAINS)
    rows = _rows(pages, chosen, "dead", because, sure, zero, target)
    return Finding(
        "prune",
        rows,
        _proof(
            rows,
            "prune",
            pages,
            [
                ("clicks_long", pages["clicks_long"].fillna(0), f"< {t.prune_clicks}", str(long), "search"),
                ("impressions_long", pages["impressions_long"].fillna(0), f"< {t.prune_impressions}", str(long), "search"),
                ("sessions_long", pages["sessions_long"], f"< {t.prune_sessions}", str(long), "landings"),
                ("conversions_long", pages["conversions_long"], "none", str(long), "landings"),
                ("backlinks", pages["backlinks"], "none", "all", "backlinks"),
            ],
        ),
    )


def consolidate(facts: Facts) -> Finding:
    """consolidate: the members of a merge group other than its survivor; the group's net gain is split over them by impressions."""
    pages, groups = facts.pages, facts.groups
    if groups.empty:
        return Finding(
            "consolidate",
            _rows(pages, pd.Series(False, index=pages.index), "duplicate", pd.Series("", index=pages.index), 1.0),
            pd.DataFrame(columns=EVIDENCE),
        )
    survivor = groups[groups["survivor"]].set_index("group")["page"]
    leaving = groups[~groups["survivor"]].merge(facts.group_gains, on="group", how="left").set_index("page")
    part = leaving["shared_impressions"] / leaving.groupby("group")["shared_impressions"].transform("sum")
    gains = leaving[GAINS].fillna(0.0).mul(part, axis=0)
    target = leaving["group"].map(survivor)
    because = say.joined(
        say.share(leaving["overlap"]),
        " of the smaller page's impressions fall on queries that ",
        pages["path"].reindex(target).set_axis(leaving.index),
        " draws too, and on ",
        say.share(leaving["turn_taking"]),
        f" of days the leading page changes ({facts.windows.recent}): they answer the same searches and divide them.",
    )
    chosen = pd.Series(pages.index.isin(leaving.index), index=pages.index)
    sure = (0.7 + 0.5 * leaving["turn_taking"] + 0.3 * (leaving["overlap"] - 0.6)).clip(upper=0.99)
    rows = _rows(pages, chosen, "duplicate", because, sure, gains, target)
    return Finding(
        "consolidate",
        rows,
        _proof(
            rows,
            "consolidate",
            pages,
            [
                ("overlap", leaving["overlap"], f">= {facts.limits.overlap}", str(facts.windows.recent), "search"),
                ("turn_taking", leaving["turn_taking"], f">= {facts.limits.turn_taking}", str(facts.windows.recent), "search"),
                ("shared_impressions", leaving["shared_impressions"], "", str(facts.windows.recent), "search"),
            ],
        ),
    )


def decay(facts: Facts) -> Finding:
    """refresh, cause decay: clicks lost by rank or pull, not by demand, still down in the last four weeks."""
    pages, t, w = facts.pages, facts.limits, facts.windows
    base, recent = pages["base"], pages["clicks"].fillna(0).astype(float)
    lost = -(pages["rank"] + pages["pull_part"])
    share = lost / base.where(base >= 20)
    mean = np.where(np.isclose(recent, base), base, (recent - base) / np.log((recent + 0.5) / (base + 0.5)))
    ratio = np.exp(np.clip(-lost / np.maximum(mean, 1e-9), -4.0, 0.0))
    noise = np.sqrt(1 / (recent + 0.5) + 1 / (base + 0.5) + 2 * 0.13**2)
    z = (-np.log(ratio) - 0.12) / noise
    q = pd.Series(false_discovery(np.where(share.notna() & pages["reference_known"], stats.norm.sf(z), np.nan)), index=pages.index)
    lasting = pages["clicks_last28"] < (1 - t.decay_share / 2) * base * 28 / w.recent.days * np.exp(
        np.clip(pages["demand"] / np.maximum(mean, 1e-9), -1.6, 0.4)
    )
    chosen = (share >= t.decay_share) & (recent < base) & (q < 0.05) & lasting & ~pages["blocked"]
    regained = pd.Series(recent * (1 / ratio - 1) * MONTH_DAYS / w.recent.days, index=pages.index).clip(
        upper=base * MONTH_DAYS / w.recent.days * 1.5
    )
    gains = pd.DataFrame(
        {
            "gain": regained * 0.8,
            "gain_low": regained * (0.8 - 1.28 * np.sqrt(0.25**2 + np.square(noise))).clip(0.15),
            "gain_high": regained * (0.8 + 1.28 * np.sqrt(0.2**2 + np.square(noise))),
        }
    )
    against = (
        "the same days a year before" if w.reference_kind == "year" else "what the days before and the season of its section let expect"
    )
    by_rank = -pages["rank"] >= -pages["pull_part"]
    how = (
        "rank cost "
        + say.count(-pages["rank"])
        + " (position "
        + say.place(pages["position_reference"])
        + " to "
        + say.place(pages["position"])
        + ")"
    ).where(by_rank, "pull cost " + say.count(-pages["pull_part"]) + " (chosen less at the same place)")
    dated = pages["since"].notna() & pages["trend"].isin(["collapse", "slow decay"])
    since = (", since the week of " + pages["since"].dt.strftime("%Y-%m-%d").fillna("")).where(dated, "")
    other = pd.Series(np.where(pages["demand"] < 0, "demand cost ", "demand gave "), index=pages.index) + say.count(pages["demand"].abs())
    because = say.joined(
        say.count(base),
        " clicks became ",
        say.count(recent),
        f" ({w.recent}, against {against}): ",
        how,
        ", ",
        other,
        since,
        "; the last four weeks are still down.",
    )
    rows = _rows(pages, chosen, "decay", because, (1 - q).clip(0, 0.99), gains)
    return Finding(
        "refresh",
        rows,
        _proof(
            rows,
            "refresh",
            pages,
            [
                ("lost_by_rank_and_pull_share", share, f">= {t.decay_share}", f"{w.recent} against {w.reference}", "search"),
                ("rank", pages["rank"], "", f"{w.recent} against {w.reference}", "search"),
                ("pull", pages["pull_part"], "", f"{w.recent} against {w.reference}", "search"),
                ("demand", pages["demand"], "", f"{w.recent} against {w.reference}", "search"),
                ("q_value", q, "< 0.05", str(w.recent), "search"),
            ],
        ),
    )


def climb(facts: Facts) -> Finding:
    """refresh, cause climb: most of what the page answers stands just below where clicks begin."""
    pages, t, w = facts.pages, facts.limits, facts.windows
    of_kind = facts.openings[facts.openings["kind"] == "climb"]
    gains = of_kind.groupby("page")[GAINS].sum().reindex(pages.index).fillna(0.0)
    queries = of_kind.groupby("page").size().reindex(pages.index).fillna(0)
    on_climb = of_kind.groupby("page")["shown"].sum().reindex(pages.index).fillna(0)
    best = of_kind.drop_duplicates("page").set_index("page")["query"].reindex(pages.index).pipe(say.named)
    share = on_climb / pages["impressions_answered"].where(pages["impressions_answered"] > 0)
    chosen = (
        (gains["gain"] >= t.min_gain)
        & (gains["gain_low"] >= t.min_gain / 3)
        & (share >= 0.6)
        & (gains["gain"] * w.recent.days / MONTH_DAYS >= t.climb_share * pages["clicks"].fillna(0))
        & ~pages["blocked"]
    )
    because = say.joined(
        "It answers ",
        say.plural(queries, "query").str.replace("querys", "queries"),
        " at positions just below the clicks (",
        say.place(pages["position_answered"]),
        " on average), first ",
        '"' + best + '"',
        ": ",
        say.count(on_climb),
        " impressions but ",
        say.plural(pages["clicks_answered"], "click"),
        f" ({w.recent}).",
    )
    rows = _rows(pages, chosen, "climb", because, (0.75 + 0.2 * share).clip(0, 0.97), gains)
    return Finding(
        "refresh",
        rows,
        _proof(
            rows,
            "refresh",
            pages,
            [
                ("impressions_share_below_clicks", share, ">= 0.6", str(w.recent), "search"),
                ("gain", gains["gain"], f">= {t.min_gain}", str(w.recent), "search, own CTR curve"),
            ],
        ),
    )


def snippet(facts: Facts) -> Finding:
    """refresh, cause snippet: well placed for what it answers, yet chosen far less than usual there."""
    pages, t, w = facts.pages, facts.limits, facts.windows
    clicks, expected = pages["clicks_answered"].fillna(0).to_numpy(float), pages["expected_answered"].fillna(0).to_numpy(float)
    pull = pd.Series(np.where(expected > 0, clicks / np.maximum(expected, 1e-9), np.nan), index=pages.index)
    q = pd.Series(false_discovery(np.where(expected >= 3, too_low_p(clicks, expected, below=t.snippet_pull), np.nan)), index=pages.index)
    lost = pd.Series((expected - clicks) * MONTH_DAYS / w.recent.days, index=pages.index).clip(lower=0)
    gains = pd.DataFrame({"gain": lost * 0.85, "gain_low": lost * 0.5, "gain_high": lost * 1.2})
    chosen = (
        (q < 0.05) & (pull < t.snippet_pull) & (pages["position_answered"] <= 10) & (gains["gain"] >= t.min_gain / 2) & ~pages["blocked"]
    )
    because = say.joined(
        "At position ",
        say.place(pages["position_answered"]),
        " it was chosen ",
        say.count(pages["clicks_answered"]),
        " times where this site's results usually get ",
        say.count(pages["expected_answered"]),
        f" ({w.recent}): pull ",
        pull.round(2).astype("str"),
        "; its title and description do not sell it.",
    )
    rows = _rows(pages, chosen, "snippet", because, (1 - q).clip(0, 0.99), gains)
    return Finding(
        "refresh",
        rows,
        _proof(
            rows,
            "refresh",
            pages,
            [
                ("pull_of_answered_queries", pull, f"< {t.snippet_pull}", str(w.recent), "search, own CTR curve"),
                ("expected_clicks", pages["expected_answered"], ">= 3", str(w.recent), "search, own CTR curve"),
                ("q_value", q, "< 0.05", str(w.recent), "search"),
            ],
        ),
    )


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
    p = np.where(sessions >= t.engagement_sessions, stats.norm.sf((t.engagement_share * 1.1 * usual - rate) / spread), np.nan)
    q = pd.Series(false_discovery(p), index=pages.index)
    chosen = (q < 0.05) & (rate < t.engagement_share * usual) & ~pages["blocked"] & bool(engaged.sum() > 0)
    because = say.joined(
        "Of ",
        say.count(sessions),
        " visits from search ",
        say.share(rate),
        " engaged, against ",
        say.share(usual),
        " on the pages of ",
        section,
        f" ({w.long}): what it offers is not what they came for.",
    )
    zero = pd.DataFrame(0.0, index=pages.index, columns=GAINS)
    rows = _rows(pages, chosen, "engagement", because, (1 - q).clip(0, 0.99), zero)
    return Finding(
        "refresh",
        rows,
        _proof(
            rows,
            "refresh",
            pages,
            [
                ("engagement_rate", rate, f"< {t.engagement_share} x that of its section", str(w.long), "landings"),
                ("engagement_rate_of_section", usual, "", str(w.long), "landings"),
                ("q_value", q, "< 0.05", str(w.long), "landings"),
            ],
        ),
    )


def expand(facts: Facts) -> Finding:
    """expand: it draws real volume on a topic that no page of the site answers."""
    pages, t, w = facts.pages, facts.limits, facts.windows
    topics = facts.stray_topics[(facts.stray_topics["impressions"] >= t.stray_impressions) & (facts.stray_topics["gain"] >= t.min_gain)]
    best = topics.sort_values(["page", "gain", "topic"], ascending=[True, False, True]).drop_duplicates("page").set_index("page")
    sums = topics.groupby("page")[GAINS].sum().reindex(pages.index)
    at = best.reindex(pages.index)
    because = say.joined(
        "It is shown ",
        say.count(at["impressions"]),
        " times for ",
        say.plural(at["queries"], "query").str.replace("querys", "queries"),
        ' on "',
        say.named(at["topic"]),
        '" at position ',
        say.place(at["position"]),
        f" ({w.recent}), which neither it nor another page answers.",
    )
    rows = _rows(pages, at["topic"].notna() & ~pages["blocked"], "strays", because, 0.9, sums)
    return Finding(
        "expand",
        rows,
        _proof(
            rows,
            "expand",
            pages,
            [
                ("stray_impressions", at["impressions"], f">= {t.stray_impressions}", str(w.recent), "search"),
                ("stray_position", at["position"], "", str(w.recent), "search"),
                ("gain", sums["gain"], f">= {t.min_gain}", str(w.recent), "search, own CTR curve"),
            ],
        ),
    )
