"""Oddities in the files of a site for robots: robots.txt and its sitemap."""

from __future__ import annotations

import pandas as pd

Note = dict[str, str]
#: lines of robots.txt outside the standard that some robots follow
KNOWN_LINES = r"^(?:crawl-delay|host|request-rate|visit-time)\s*:"
#: share of the entries of a sitemap with the same date from which its dates are those of its creation; least entries
ONE_DAY, ENTRIES = 0.9, 20
#: days after a page's own date of change from which the date in the sitemap differs, and share of such pages for a note
LATER, LATER_SHARE = 30, 0.5


def robots_notes(rules: pd.DataFrame) -> list[Note]:
    """Lines that are no rules, and paths that the same pattern both allows and blocks for one agent.

    Args:
        rules: agent, rule (allow, disallow, sitemap, other), pattern.
    """
    odd = rules.loc[(rules["rule"] == "other") & ~rules["pattern"].fillna("").str.contains(KNOWN_LINES, case=False, regex=True), "pattern"]
    result = []
    if len(odd):
        text = f'robots.txt has {len(odd):,} lines that are no rules and do nothing (RFC 9309), first "{odd.iloc[0]}".'
        result.append({"code": "robots_lines", "text": text.replace("1 lines that are no rules and do", "a line that is no rule and does")})
    ruled = rules[rules["rule"].isin(["allow", "disallow"]) & rules["pattern"].fillna("").ne("")]
    both = ruled.groupby(["agent", "pattern"])["rule"].nunique()
    if len(both := both[both > 1]):
        agent, pattern = both.index[0]
        text = f'robots.txt both allows and disallows "{pattern}" to {"all robots" if agent == "*" else agent}: it is allowed, because the milder rule counts.'
        more = f" The same of {len(both) - 1:,} more." if len(both) > 1 else ""
        result.append({"code": "robots_contradict", "text": text + more})
    return result


def sitemap_notes(entries: pd.DataFrame, changed: pd.Series) -> list[Note]:
    """Implausible dates of change (`lastmod`): nearly all the same, or long after the date on the pages themselves.

    Args:
        entries: page_id, modified (null where an entry has no date); changed: by page number, the date of change in the crawl, or null.
    """
    days = pd.to_datetime(entries["modified"]).dropna()
    if len(days) < ENTRIES:
        return []
    most = days.dt.normalize().value_counts()
    if most.iloc[0] >= ONE_DAY * len(days):
        text = f"The sitemap gives {most.iloc[0]:,} of {len(days):,} entries the same day of change, {most.index[0]:%Y-%m-%d}: the date of its creation, which is no information for robots."
        return [{"code": "sitemap_days", "text": text}]
    changed_on = pd.to_datetime(entries["page_id"].map(changed))
    late = (pd.to_datetime(entries["modified"]) - changed_on).dt.days[changed_on.notna() & entries["modified"].notna()]
    if len(late) >= ENTRIES and (late > LATER).mean() >= LATER_SHARE:
        text = f"The sitemap gives {int((late > LATER).sum()):,} of {len(late):,} pages a day of change more than {LATER} days after their own."
        return [{"code": "sitemap_days", "text": text}]
    return []
