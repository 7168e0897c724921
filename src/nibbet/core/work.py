"""The rules that ask for work on a page: decay, climb, snippet, engagement, expand."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from nibbet.core import sentences as say
from nibbet.core.findings import (
    AS_ONE,
    CHANCE,
    CURVE_SPREAD,
    GAINS,
    Check,
    Facts,
    Finding,
    all_passed,
    finding_rows,
    not_blocked,
)
from nibbet.core.pull import chance_poor, false_discovery, left_when_mended, nature_spread, quantile_of_chance, too_low_p
from nibbet.core.replaced import REPLACED
from nibbet.core.section_pull import LEAST_BASE
from nibbet.core.standing import Z80, with_withheld
from nibbet.core.sunk import sunk
from nibbet.core.tables import THIN_CLICKS
from nibbet.core.verdict import Verdict
from nibbet.core.windows import MONTH_DAYS
from nibbet.core.wording import verdicts as wording

#: share of impressions in the climbing range from which a page needs to climb rather than a different answer
BELOW_CLICKS = 0.6
#: probability that a low CTR is due to the title from which a new one is worth a trial: one in four
PROBABLE = 0.25


def decay(facts: Facts) -> Finding:
    """refresh, cause decay: clicks lost by rank or pull, not by demand and not to other pages of the site, still down in the last four weeks; a
    page that moved is compared with its old addresses.
    """
    t, w = facts.limits, facts.windows
    pages = facts.pages.assign(base=facts.pages["base"] + facts.pages["taken_over"])
    to_others = (pages["rank"] * pages["replaced"]).clip(upper=0.0).where(pages["replaced"] >= REPLACED, 0.0)
    base, recent = pages["base"], pages["clicks"].fillna(0).astype(float)
    mean = np.maximum(np.where(np.isclose(recent, base), base, (recent - base) / np.log((recent + 0.5) / (base + 0.5))), 1e-9)
    counting = 1 / (recent + 0.5) + 1 / (base + 0.5)
    shared = facts.shared_pull
    untold = _untold_beyond_usual(pages, mean) if facts.untold_because else pd.Series(0.0, index=pages.index)
    of_pull = np.minimum(pages["pull_part"] + shared * mean, pages["pull_part"].clip(lower=0.0))
    lost, q = _losses(pages.assign(pull_part=of_pull + untold, rank=pages["rank"] - to_others), mean, counting)
    share = (lost * mean / base.where(base >= LEAST_BASE)).astype(float)
    lasting = pages["clicks_last28"] < (1 - t.decay_share / 2) * base * 28 / w.recent.days * np.exp(
        np.clip(pages["demand"] / mean, -1.6, 0.4)
    )
    between = f"{w.recent} against {w.reference}"
    four = pages["clicks_last28"] / (base * 28 / w.recent.days).where(base > 0)
    checks = [
        Check("lost_share", share, f">= {t.decay_share}", between, "search", share >= t.decay_share),
        Check("rank", pages["rank"], "", between, "search"),
        Check("rank_lost_to_other_pages", to_others.where(to_others < 0), "", between, "search"),
        Check("pull", pages["pull_part"], "", between, "search"),
        Check("pull_lost_by_section", (1 - np.exp(-shared)).where(shared > 0), "", between, "search"),
        Check("demand", pages["demand"], "", between, "search"),
        Check("untold_beyond_usual", untold.where(untold < 0), "", between, "search"),
        Check("clicks", recent, "< reference", between, "search", recent < base),
        Check("clicks_of_old_addresses", pages["taken_over"].where(pages["taken_over"] > 0), "", str(w.reference), "search"),
        Check("q_value", q, f"< {CHANCE}", str(w.recent), "search", q < CHANCE),
        Check("last_four_weeks_share", four, "still down", "the last 28 days", "search", lasting),
        not_blocked(pages),
    ]
    if not w.is_daily:  # months and periods have no last weeks
        checks = [check for check in checks if check.measure != "last_four_weeks_share"]
    chosen = all_passed(checks)
    month, unsure = MONTH_DAYS / w.recent.days, np.sqrt(counting + 2 * 0.1**2)
    gains = pd.DataFrame(
        {
            name: (recent * (np.exp(np.clip(lost + end * unsure, 0.0, 4.0)) - 1)).clip(upper=1.5 * base) * month
            for name, end in (("gain", 0.0), ("gain_low", -Z80), ("gain_high", Z80))
        }
    )
    if facts.untold_because:
        because = wording.fell(pages[chosen], base[chosen], recent[chosen], facts.untold_because, is_daily=w.is_daily)
    else:
        because = wording.decayed(pages[chosen], base[chosen], recent[chosen], is_daily=w.is_daily)
    sure = (1 - q).clip(0, 0.99 if w.is_daily else 0.85)
    return Finding(Verdict.REFRESH, "decay", finding_rows(pages, chosen, "decay", because, sure, gains), checks)


def _untold_beyond_usual(pages: pd.DataFrame, mean: NDArray[np.float64]) -> pd.Series:
    """The untold part of the change of each page (clicks) beyond what the pages of this site lost in common: its median, weighted by clicks.

    Args:
        pages: base, untold, reference_known; mean: the logarithmic mean of clicks before and now.
    """
    rows = pages[(pages["base"] >= LEAST_BASE) & pages["reference_known"]].index
    change = pages["untold"].fillna(0.0) / mean
    order = change[rows].sort_values()
    weight = pages["base"][order.index].cumsum()
    usual = float(order.iloc[int(np.searchsorted(weight, weight.iloc[-1] / 2))]) if len(order) else 0.0
    return (change - min(usual, 0.0)) * mean


def _losses(pages: pd.DataFrame, mean: NDArray[np.float64], counting: pd.Series) -> tuple[NDArray[np.float64], pd.Series]:
    """The loss of each page by rank and pull (of the logarithm of its clicks, positive for a fall), and the q-value of such a loss by
    chance.

    Clicks show a loss of any cause. Positions show a loss of rank alone, but sooner, because small counts vary widely. The smaller p-value
    counts, doubled for the choice. A loss by positions counts no further than clicks allow, within their noise.

    Args:
        pages: base, clicks, rank, pull_part, noise, reference_known; mean: the logarithmic mean of clicks before and now; counting:
            variance of the logarithm of their ratio.
    """
    known = (pages["base"] >= LEAST_BASE) & pages["reference_known"] & pages["rank"].notna()
    rank, pull = ((pages[name] / mean).clip(-4.0, 4.0).fillna(0.0).to_numpy(np.float64) for name in ("rank", "pull_part"))
    by_clicks = np.clip(-(rank + pull), 0.0, 4.0)
    noise = np.hypot(np.sqrt(counting), pages["noise"]).to_numpy(np.float64)
    p_clicks = special.ndtr(-by_clicks / noise)
    by_places, p_places = sunk(rank, pull, counting.to_numpy(np.float64), (known & (pages["clicks"] > 0)).to_numpy(bool))
    p_value = np.minimum(2 * np.minimum(p_clicks, p_places), 1.0)
    q = pd.Series(false_discovery(np.where(known, p_value, np.nan)), index=pages.index)
    return np.where(p_places < p_clicks, np.minimum(by_places, by_clicks + noise), by_clicks), q


def climb(facts: Facts) -> Finding:
    """refresh, cause climb: most of what the page answers has a position just below those that get clicks."""
    pages, t, w = facts.pages, facts.limits, facts.windows
    of_page = facts.climbs.reindex(pages.index)
    figures = of_page[[*GAINS, "reach", "reach_low"]].fillna(0.0).mul(with_withheld(facts.pages["withheld_share"]), axis=0)
    gains, reach, least = figures[GAINS], figures["reach"], figures["reach_low"]
    queries, on_climb, best = of_page["queries"].fillna(0), of_page["shown"].fillna(0), say.named(of_page["first"])
    share = on_climb / pages["impressions_answered"].where(pages["impressions_answered"] > 0)
    of_clicks = reach * w.recent.days / MONTH_DAYS / pages["clicks"].fillna(0).where(pages["clicks"].fillna(0) > 0)
    search, curve = "search", "search, own CTR curve"
    checks = [
        Check("impressions_share_below_clicks", share, f">= {BELOW_CLICKS}", str(w.recent), search, share >= BELOW_CLICKS),
        Check("reach", reach, f">= {t.min_gain}", str(w.recent), curve, reach >= t.min_gain),
        Check("reach_low", least, f">= {t.min_gain / 3:.2g}", str(w.recent), curve, least >= t.min_gain / 3),
        Check("reach_of_own_clicks", of_clicks, f">= {t.climb_share}", str(w.recent), curve, of_clicks.fillna(np.inf) >= t.climb_share),
        not_blocked(pages),
    ]
    chosen = all_passed(checks)
    because = wording.below_the_clicks(pages[chosen], queries[chosen], on_climb[chosen], best[chosen], of_page["sunk"][chosen])
    sure = (0.75 + 0.2 * share).clip(0, 0.97).where(~pages["as_one"], AS_ONE)
    return Finding(Verdict.REFRESH, "climb", finding_rows(pages, chosen, "climb", because, sure, gains), checks)


def snippet(facts: Facts) -> Finding:
    """refresh, cause snippet: good position for what it answers, but a CTR far below the usual there, and not only for single queries."""
    pages, t, w = facts.pages, facts.limits, facts.windows
    standing, index = facts.standing, pages.index
    figures = ("clicks_titled", "clicks_titled_reference", "expected_titled", "expected_titled_reference")
    clicks, clicks_before, expected, expected_before = (pages[name].fillna(0).to_numpy(np.float64) for name in figures)
    # no title wins back what a section lacks or lost; the curve also includes queries that pages do not answer
    kept = np.exp(-facts.shared_pull.to_numpy(np.float64))
    of_section = np.minimum(pages["section_pull"].to_numpy(np.float64), kept)
    usual, usual_before = expected * standing.usual_pull * of_section, expected_before * standing.usual_pull * of_section / kept
    now = too_low_p(clicks, usual, below=t.snippet_pull)
    both = too_low_p(clicks + clicks_before, usual + usual_before, below=t.snippet_pull)
    p_value = np.where(usual_before > 0, np.minimum(2 * np.minimum(now, both), 1.0), now)  # the smaller p-value, doubled for the choice
    q = pd.Series(false_discovery(np.where(usual >= THIN_CLICKS, p_value, np.nan)), index=index)
    noise = np.hypot(usual * np.hypot(nature_spread(clicks, standing.pull_spread), CURVE_SPREAD), np.sqrt(clicks + 1))
    whole = (with_withheld(pages["withheld_share"]) * MONTH_DAYS / w.recent.days).to_numpy()
    part = left_when_mended(clicks, usual, standing.pull_spread)
    # a page with a new title does as well as pages on average, including those with low pull
    left = usual * min(standing.pull / standing.usual_pull, 1.0) * part
    poor = chance_poor(clicks, usual, standing.pull_spread, standing.poor_share)
    gain = np.maximum(left - clicks, 0.0) * poor
    low, high = (quantile_of_chance(end, poor, left - clicks, noise) for end in (0.1, 0.9))
    ends = {"gain": gain, "gain_low": np.minimum(low, gain), "gain_high": np.maximum(high, gain)}
    gains = pd.DataFrame({name: value * whole for name, value in ends.items()}, index=index)
    sums = pd.DataFrame({"clicks": clicks, "before": clicks_before, "usual": usual, "usual_before": usual_before}, index=index)
    enough = sums["usual"].where(sums["usual"] > 0)
    pull, pull_of_both = sums["clicks"] / enough, (sums["clicks"] + sums["before"]) / (enough + sums["usual_before"])
    curve, least, chance = "search, own CTR curve", t.min_gain / 2, pd.Series(poor, index=index)
    windows = f"{w.recent} and {w.reference}" if w.has_reference else str(w.recent)
    checks = [
        Check("queries_where_something_else_is_chosen", pages["queries_apart"], "", str(w.recent), curve),
        Check("pull_of_its_other_queries", pull, f"< {t.snippet_pull}", str(w.recent), curve, pull < t.snippet_pull),
        Check("pull_of_its_section", pd.Series(of_section, index=index).where(of_section < 1), "", str(w.recent), curve),
        Check("expected_clicks", sums["usual"], f">= {THIN_CLICKS:g}", str(w.recent), curve, sums["usual"] >= THIN_CLICKS),
        Check("pull_of_them_in_both_windows", pull_of_both, "", windows, curve),
        Check("q_value", q, f"< {CHANCE}", windows, "search", q < CHANCE),
        Check("chance_of_a_poor_title", chance, f">= {PROBABLE}", str(w.recent), curve, chance >= PROBABLE),
        Check("position", pages["position_titled"], "<= 10", str(w.recent), "search", pages["position_titled"] <= 10),
        Check("gain", gains["gain"], f">= {least:g}", str(w.recent), curve, gains["gain"] >= least),
        not_blocked(pages),
    ]
    chosen = all_passed(checks)
    because = wording.seldom_chosen(pages[chosen], sums["usual"][chosen], pd.Series(of_section < 1, index=index)[chosen], chance[chosen])
    sure = ((1 - q) * poor).clip(0, 0.99).where(~pages["as_one"], AS_ONE)
    return Finding(Verdict.REFRESH, "snippet", finding_rows(pages, chosen, "snippet", because, sure, gains), checks)


def engagement(facts: Facts) -> Finding:
    """refresh, cause engagement: visitors from search leave sooner than on other pages of its section. It brings no clicks, so its gain is
    0.
    """
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
        not_blocked(pages),
    ]
    chosen = all_passed(checks)
    because = wording.disappoints(rate[chosen], sessions[chosen], usual[chosen], section[chosen])
    zero = pd.DataFrame(0.0, index=pages.index, columns=GAINS)
    return Finding(Verdict.REFRESH, "engagement", finding_rows(pages, chosen, "engagement", because, (1 - q).clip(0, 0.99), zero), checks)


def expand(facts: Facts) -> Finding:
    """expand: it has real volume on a topic that no page of the site answers."""
    pages, t, w = facts.pages, facts.limits, facts.windows
    topics = facts.stray_topics[(facts.stray_topics["impressions"] >= t.stray_impressions) & (facts.stray_topics["gain"] >= t.min_gain)]
    topics = topics[~(topics["stray_share"] <= topics["usual_share"])]
    best = topics.sort_values(["page", "gain", "topic"], ascending=[True, False, True]).drop_duplicates("page").set_index("page")
    sums = topics.groupby("page")[GAINS].sum().reindex(pages.index)
    at = best.reindex(pages.index)
    limit = facts.stray_topics["usual_share"].max() if len(facts.stray_topics) else 0.0
    usual = f"> {limit:.2g}, unusual here" if limit > 0 else ""
    checks = [
        Check("stray_impressions", at["impressions"], f">= {t.stray_impressions}", str(w.recent), "search", at["topic"].notna()),
        Check("stray_position", at["position"], "", str(w.recent), "search"),
        Check("stray_share", at["stray_share"], usual, str(w.recent), "search"),
        Check("gain", sums["gain"], f">= {t.min_gain}", str(w.recent), "search, own CTR curve", sums["gain"] >= t.min_gain),
        not_blocked(pages),
    ]
    chosen = all_passed(checks)
    because = wording.draws_unanswered(at[chosen])
    return Finding(Verdict.EXPAND, "strays", finding_rows(pages, chosen, "strays", because, 0.9, sums), checks)
