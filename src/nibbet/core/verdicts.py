"""One verdict per page: the rules in their order, and keep where none holds."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.findings import EVIDENCE, GAINS, Facts, Finding
from nibbet.core.rules import consolidate, prune, undated, unsettled, untold, young
from nibbet.core.tables import THIN_CLICKS
from nibbet.core.verdict import Verdict
from nibbet.core.wording import verdicts as wording
from nibbet.core.work import climb, decay, engagement, expand, snippet

#: rules that apply to pages with a purpose other than search; the others are about search traffic
OF_PURPOSE = {
    "campaign": (Verdict.WATCH, Verdict.PRUNE),
    "support": (Verdict.WATCH, Verdict.PRUNE, "engagement"),
    "account": (Verdict.WATCH, Verdict.PRUNE),
}
WATCHING = (young, unsettled, untold, undated)
RULES = (*WATCHING, prune, consolidate, decay, climb, snippet, engagement, expand)
#: watch for any reason comes first, then prune, then consolidate; the others compete by gain
ORDER = {rule: max(0, number + 1 - len(WATCHING)) for number, rule in enumerate(RULES)}
#: certainty for high and medium confidence; certainty of `keep`: no rule holds, which is no proof
HIGH, MEDIUM, KEPT = 0.95, 0.8, 0.9
#: share of a loss from which demand is named as its cause
MOSTLY = 0.6
REASONING = "rule measure value threshold passed window source".split()


def look(facts: Facts) -> list[Finding]:
    """The finding of every rule for every page."""
    return [rule(facts) for rule in RULES]


def reasoning(facts: Facts, page: int) -> pd.DataFrame:
    """Everything that the rules looked at for one page (its number): REASONING, one row per figure of every rule, in the order of the
    rules.

    passed is null where a figure is only shown; a rule holds when all its figures passed.
    """
    rows = [
        (f"{finding.verdict}, {finding.cause}", check, check.values.get(page), None if check.passed is None else check.passed.get(page))
        for finding in look(facts)
        for check in finding.checks
        if not (check.of_some and pd.isna(check.values.get(page)))
    ]
    known = [(rule, c.measure, value, str(c.threshold), passed, c.window, c.source) for rule, c, value, passed in rows]
    table = pd.DataFrame(known, columns=REASONING)
    return table.assign(value=pd.to_numeric(table["value"]).astype("float64"), passed=table["passed"].astype("boolean"))


def decide(facts: Facts) -> tuple[pd.DataFrame, pd.DataFrame]:
    """The verdicts and their evidence.

    Returns:
        (verdicts, evidence). verdicts: one row per page, indexed like facts.pages: verdict (null for error and redirecting addresses, and
        those known only from a sitemap, a link or a hit), cause, target (page number or null), gain, gain_low, gain_high (clicks a month;
        null for keep and watch), confidence (high, medium, low), because, also (the second-best verdict). evidence: EVIDENCE.
    """
    pages, findings = facts.pages, look(facts)
    none = pages["gone"] | ~pages["is_page"]
    proposals = pd.concat(
        [finding.rows.assign(verdict=finding.verdict, order=ORDER[rule]) for rule, finding in zip(RULES, findings, strict=True)]
    )
    proposals = proposals[~none.loc[proposals.index].to_numpy()]
    proposals = proposals[_of_purpose(proposals, pages["purpose"])]
    over = pages["event_to"].notna()  # a page without demand any more is not refreshed
    rises_again = proposals["cause"].eq("climb") & proposals.index.isin(proposals.index[proposals["cause"] == "decay"])
    if not facts.windows.are_counted_alike:  # its former position, to which its climb would be limited, is unknown
        proposals, rises_again = proposals[~rises_again], rises_again[~rises_again]
    # a fall from where clicks are is named even where climbing back promises more
    stood = (pages["position_both_reference"] < facts.limits.climb_position[0]).reindex(proposals.index)
    proposals = proposals.assign(after=rises_again.to_numpy() & stood.to_numpy())
    proposals = proposals[~(proposals["verdict"].eq(Verdict.REFRESH) & over.reindex(proposals.index).to_numpy())]
    if len(facts.groups):  # the gain of a merge on shared queries is not promised to its survivor again
        survivors = facts.groups[facts.groups["survivor"]].merge(facts.group_gains, on="group").set_index("page")["survivor_rest"]
        proposals = proposals[~((proposals["verdict"] == Verdict.EXPAND) & proposals.index.isin(survivors.index))]
        proposals = proposals.assign(
            **proposals[GAINS].mul(
                survivors.reindex(proposals.index).fillna(1.0).where(proposals["verdict"] == Verdict.REFRESH, 1.0), axis=0
            )
        )
        little = (
            proposals["cause"].isin(["climb", "snippet"])
            & proposals.index.isin(survivors.index)
            & (proposals["gain"] < facts.limits.min_gain / 2)
        )
        proposals = proposals[~little]
    step = proposals["order"].clip(upper=3)  # refresh and expand compete: the larger gain_low wins
    ranked = proposals.assign(page=proposals.index, step=step).sort_values(
        ["page", "step", "after", "gain_low", "gain", "order"], ascending=[True, True, True, False, False, True], kind="stable"
    )
    first, later = ranked.drop_duplicates("page"), ranked[ranked.duplicated("page")]
    table = _keep(facts)
    columns = ["verdict", "cause", "because", "target", "sure", *GAINS]
    table.loc[first.index, columns] = first[columns]
    second = later[later["verdict"] != Verdict.WATCH].drop_duplicates("page")
    table["also"] = (second["verdict"] + ", " + second["cause"]).reindex(table.index).fillna("")
    table["confidence"] = np.select([table["sure"] >= HIGH, table["sure"] >= MEDIUM], ["high", "medium"], "low")
    table.loc[table["verdict"] == Verdict.WATCH, GAINS] = np.nan
    table.loc[pages.index[none], ["verdict", "cause", "because", "confidence", "also"]] = None
    won = [f.evidence(f.rows.index[_settled_by(table, f)]) for f in findings]
    evidence = pd.concat([part for part in won if len(part)] or [pd.DataFrame(columns=EVIDENCE)], ignore_index=True)
    return table.drop(columns="sure"), evidence


def _settled_by(table: pd.DataFrame, finding: Finding) -> np.ndarray:
    """Which pages of a rule have its verdict and cause."""
    of_pages = table.loc[finding.rows.index, ["verdict", "cause"]]
    mine: np.ndarray = (of_pages["verdict"].eq(finding.verdict) & of_pages["cause"].eq(finding.rows["cause"])).to_numpy(dtype=bool)
    return mine


def _of_purpose(proposals: pd.DataFrame, purpose: pd.Series) -> np.ndarray:
    """Which proposals are allowed for their page, given its purpose."""
    of_page = purpose.reindex(proposals.index)
    allowed = [of_page.eq(name) & (proposals["verdict"].isin(may) | proposals["cause"].isin(may)) for name, may in OF_PURPOSE.items()]
    may_be: np.ndarray = np.logical_or.reduce([of_page.isna(), *allowed])
    return may_be


def _keep(facts: Facts) -> pd.DataFrame:
    """keep for every page, with a sentence on its performance and the source of its change."""
    pages, w = facts.pages, facts.windows
    change = pages["change"] - pages["taken_over"]
    lost = pages["change_real"].where(pages["taken_over"] <= 0, -change >= facts.limits.decay_share * (pages["base"] + pages["taken_over"]))
    by_demand = lost & (change < 0) & (pages["demand"] <= MOSTLY * change)
    against = "a year earlier" if w.reference_kind == "year" else "in the preceding days"
    by_others = lost & (change < 0) & (pages["rank"] * pages["replaced"] <= MOSTLY * change)
    by_section = lost & (change < 0) & (pages["pull_part"] <= MOSTLY * change) & (facts.shared_pull > 0)
    expected = pages["expected_titled"].fillna(0.0) * facts.standing.usual_pull
    seldom = (expected >= THIN_CLICKS) & (pages["clicks_titled"] < facts.limits.snippet_pull * expected)
    low_section = (pages["section_pull"] < 1) & seldom
    because = wording.kept(pages, by_demand, by_others, by_section, low_section, against, w.covered_days, facts.limits.hub_children)
    return pd.DataFrame(
        {
            "verdict": Verdict.KEEP,
            "cause": np.select([pages["event_sure"].eq(True), pages["event_to"].notna()], ["event over", "one peak"], ""),
            "target": np.nan,
            "gain": np.nan,
            "gain_low": np.nan,
            "gain_high": np.nan,
            "sure": KEPT,
            "because": because,
        },
        index=pages.index,
    )
