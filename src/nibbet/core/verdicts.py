"""One verdict per page: the rules in the order in which they apply, and keep where none does."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core import sentences as say
from nibbet.core.rules import (
    EVIDENCE,
    GAINS,
    Facts,
    Finding,
    climb,
    consolidate,
    decay,
    engagement,
    expand,
    prune,
    snippet,
    unsettled,
    young,
)

RULES = (young, unsettled, prune, consolidate, decay, climb, snippet, engagement, expand)
#: watch for either reason comes first, then prune, then consolidate; the rest stand side by side
ORDER = {rule: max(0, number - 1) for number, rule in enumerate(RULES)}
REASONING = "rule measure value threshold passed window source".split()


def look(facts: Facts) -> list[Finding]:
    """What every rule says of every page."""
    return [rule(facts) for rule in RULES]


def reasoning(facts: Facts, page: int) -> pd.DataFrame:
    """Everything that was looked at for one page (its number): REASONING, one row per figure of every rule, in the order of the rules.

    passed is null where a figure is only shown; a rule speaks when all its figures passed.
    """
    rows = [
        (f"{finding.verdict}, {finding.cause}", check, check.values.get(page), None if check.passed is None else check.passed.get(page))
        for finding in look(facts)
        for check in finding.checks
    ]
    told = [(rule, c.measure, value, str(c.threshold), passed, c.window, c.source) for rule, c, value, passed in rows]
    table = pd.DataFrame(told, columns=REASONING)
    return table.assign(value=pd.to_numeric(table["value"]).astype("float64"), passed=table["passed"].astype("boolean"))


def decide(facts: Facts) -> tuple[pd.DataFrame, pd.DataFrame]:
    """The verdicts and their evidence.

    Returns:
        (verdicts, evidence). verdicts: one row per page, indexed like facts.pages: verdict (null for error and redirecting addresses), cause,
        target (page number or null), gain, gain_low, gain_high (clicks a month; null for keep and watch), confidence (high, medium, low),
        because, also (the second-best verdict). evidence: EVIDENCE.
    """
    pages, findings = facts.pages, look(facts)
    said = pd.concat(
        [finding.rows.assign(verdict=finding.verdict, order=ORDER[rule]) for rule, finding in zip(RULES, findings, strict=True)]
    )
    said = said[~pages["gone"].loc[said.index].to_numpy()]
    survivors = facts.groups.loc[facts.groups["survivor"], "page"] if len(facts.groups) else []
    said = said[~((said["verdict"] == "expand") & said.index.isin(survivors))]
    step = said["order"].clip(upper=3)  # refresh and expand stand side by side: the larger gain_low wins
    ranked = said.assign(page=said.index, step=step).sort_values(
        ["page", "step", "gain_low", "gain", "order"], ascending=[True, True, False, False, True], kind="stable"
    )
    first, later = ranked.drop_duplicates("page"), ranked[ranked.duplicated("page")]
    table = _keep(facts)
    columns = ["verdict", "cause", "because", "target", "sure", *GAINS]
    table.loc[first.index, columns] = first[columns]
    second = later[later["verdict"] != "watch"].drop_duplicates("page")
    table["also"] = (second["verdict"] + ", " + second["cause"]).reindex(table.index).fillna("")
    table["confidence"] = np.select([table["sure"] >= 0.95, table["sure"] >= 0.8], ["high", "medium"], "low")
    table.loc[table["verdict"] == "watch", GAINS] = np.nan
    table.loc[pages.index[pages["gone"]], ["verdict", "cause", "because", "confidence", "also"]] = None
    evidence = pd.concat([f.evidence for f in findings if len(f.evidence)] or [pd.DataFrame(columns=EVIDENCE)], ignore_index=True)
    won = table["verdict"] + ":" + table["cause"]
    evidence = evidence[(evidence["page"].map(won) == evidence["verdict"]).to_numpy()]
    return table.drop(columns="sure"), evidence.assign(verdict=evidence["verdict"].str.split(":").str[0])[EVIDENCE]


def _keep(facts: Facts) -> pd.DataFrame:
    """keep for every page, and a sentence that says what it does and where a change came from."""
    pages, w = facts.pages, facts.windows
    against = "a year before" if w.reference_kind == "year" else "expected from the days before and the season"
    clicks = say.joined(say.plural(pages["clicks"], "click"), f" ({w.recent})")
    trend = say.joined(", ", say.count(pages["base"]), f" {against}")
    by_demand = pages["change_real"] & (pages["change"] < 0) & (pages["demand"] <= 0.6 * pages["change"])
    why = np.select(
        [pages["blocked"], by_demand, pages["protected"] & (pages["clicks"].fillna(0) == 0)],
        [
            "; kept out of the index by noindex, which is a repair, not a rewrite.",
            "; the loss is demand: fewer people searched, the page holds its place.",
            "; protected by your settings.",
        ],
        "; no rule asks for a change.",
    )
    earns = pages["clicks"].fillna(0) == 0
    other = np.select(
        [earns & (pages["conversions_long"].fillna(0) > 0), earns & (pages["backlinks"].fillna(0) > 0)],
        [
            say.joined("; it sells: ", say.count(pages["conversions_long"]), " conversions in the long window."),
            say.joined("; ", say.plural(pages["backlinks"], "link"), " from outside lead to it."),
        ],
        why,
    )
    because = say.joined(clicks, trend.where(pages["reference_known"] & (pages["base"] > 0), ""), pd.Series(other, index=pages.index))
    return pd.DataFrame(
        {
            "verdict": "keep",
            "cause": "",
            "target": np.nan,
            "gain": np.nan,
            "gain_low": np.nan,
            "gain_high": np.nan,
            "sure": 0.9,
            "because": because,
        },
        index=pages.index,
    )
