"""Findings of rules: checks of figures against thresholds, and findings with their evidence."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import pandas as pd

from nibbet.core.section_pull import pull_lost_by_sections
from nibbet.core.standing import Standing
from nibbet.core.thresholds import Thresholds
from nibbet.core.windows import Windows

GAINS = ["gain", "gain_low", "gain_high"]
#: uncertainty of the expectation of the CTR curve for one page, beyond the variation of pulls
CURVE_SPREAD = 0.08
#: certainty of a verdict based on the totals of a page without its queries: one mean position hides many
AS_ONE = 0.7
#: false discovery rate of the findings of one rule
CHANCE = 0.05
EVIDENCE = ["page", "verdict", "measure", "value", "threshold", "window", "source"]


@dataclass
class Check:
    """One figure of a rule, per page; `passed` is None where the figure is only shown; `of_some` where it exists for some pages only."""

    measure: str
    values: pd.Series
    threshold: object
    window: str
    source: str
    passed: pd.Series | None = None
    of_some: bool = False


@dataclass
class Finding:
    """The finding of one rule: rows (page as index) with cause, because, gains, target, sure (0 to 1), and the checks behind them."""

    verdict: str
    cause: str
    rows: pd.DataFrame
    checks: list[Check]

    def evidence(self, pages: pd.Index) -> pd.DataFrame:
        """The checks of these pages, for which the rule holds: EVIDENCE; figures that are unknown and decide nothing are left out."""
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
                    "of_some": check.of_some,
                }
            )
            for check in self.checks
            if len(check.values)
        ]
        if not len(pages) or not parts:
            return pd.DataFrame(columns=EVIDENCE)
        rows = pd.concat(parts, ignore_index=True)
        return rows.loc[rows["value"].notna() | (rows["threshold"].ne("") & ~rows["of_some"]), EVIDENCE].reset_index(drop=True)


def all_passed(checks: list[Check]) -> pd.Series:
    """Which pages pass every check."""
    outcomes = [check.passed.fillna(False).astype(bool) for check in checks if check.passed is not None]
    return pd.concat(outcomes, axis=1).all(axis=1)


#: the frames among the input of the rules
FACTS = ("pages", "climbs", "groups", "group_gains", "stray_topics")


@dataclass
class Facts:
    """The input of all rules.

    settled: days after which a page has found its position. untold_because: a sentence on why the data do not show by what clicks fell, empty
    where they do. pages: one row per page, indexed by page number; the columns of pages.csv
    (without verdicts) and is_page, age_days, first_seen, children, protected, position_reference, noise (between the windows, see
    `core.compare.page_noise`), demand, rank, pull_part, replaced (share of rank) and replaced_by (see `core.replaced`), expected_answered, clicks_answered, sessions_known, backlinks_known, purpose (null
    for pages that exist for search). climbs: see `core.openings.climbs_of_pages`.
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
    untold_because: str = ""

    @cached_property
    def shared_pull(self) -> pd.Series:
        """The pull that sections lost in common: see `pull_lost_by_sections`."""
        return pull_lost_by_sections(self.pages)

    def poor_below(self, measure: str) -> float:
        """Clicks or impressions in the long window below which a page is poor: scaled down for a window of less than a year of seasons, and to
        the mean of living pages where those have few.
        """
        t, part = self.limits, min(1.0, self.windows.covered_days / self.limits.covered_days)
        mean = self.pages.loc[~self.pages["gone"], f"{measure}_long"].fillna(0).astype(float).mean()
        return round(min({"clicks": t.prune_clicks, "impressions": t.prune_impressions}[measure] * part, t.prune_share * mean), 1)


def age_of(pages: pd.DataFrame) -> pd.Series:
    """Days since each page was first published or seen; a very large number where unknown."""
    return pages["age_days"].fillna(10_000)


def many_outlinks(pages: pd.DataFrame, limits: Thresholds) -> float:
    """Outgoing links from which a page is a hub: those of the settings, and half as many above the median of the living pages, since
    menus and footers stand on every page.
    """
    usual = pages["outlinks"][~pages["gone"]].median()
    return max(float(limits.hub_outlinks), float(usual) + limits.hub_outlinks / 2) if pd.notna(usual) else float(limits.hub_outlinks)


def is_hub(pages: pd.DataFrame, limits: Thresholds) -> pd.Series:
    """Pages on which others depend: parents in the tree of addresses, pages with many outgoing links, or the only or main way to living
    pages.
    """
    below, out = pages["children"] >= limits.hub_children, pages["outlinks"].fillna(0) >= many_outlinks(pages, limits)
    way = (pages["only_way"].fillna(0) > 0) | (pages["main_way"].fillna(0) >= limits.hub_children)
    return below | out | way.astype(bool)


def stays(pages: pd.DataFrame, limits: Thresholds, settled: int) -> pd.Series:
    """Pages that are never merged away: protected, new, hubs, pages of a list, or with another purpose."""
    return pages["protected"] | is_hub(pages, limits) | pages["in_list"] | (age_of(pages) < settled) | pages["purpose"].notna()


def finding_rows(
    pages: pd.DataFrame,
    chosen: pd.Series,
    cause: str,
    because: pd.Series,
    sure: pd.Series | float,
    gains: pd.DataFrame | None = None,
    target: pd.Series | None = None,
) -> pd.DataFrame:
    """The rows of a finding for the chosen pages: cause, because, sure, target, gains and any other given columns."""
    at = pages.index[chosen]
    table = pd.DataFrame(
        {"cause": cause, "because": because.reindex(at), "sure": sure if isinstance(sure, float) else sure.reindex(at)}, index=at
    )
    for name in GAINS:
        table[name] = gains[name].reindex(at) if gains is not None else np.nan
    table["target"] = target.reindex(at) if target is not None else np.nan
    return table


def not_blocked(pages: pd.DataFrame) -> Check:
    """Passed by pages that are not blocked from the index."""
    return Check("kept_out_of_the_index", pages["blocked"].astype(float), "no", "now", "crawl", ~pages["blocked"])
