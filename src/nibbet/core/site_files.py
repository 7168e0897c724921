"""What is odd about the files that a site keeps for robots: robots.txt and its sitemap."""

from __future__ import annotations

import pandas as pd

Note = dict[str, str]
#: lines of robots.txt that no standard knows and that some robots follow all the same
KNOWN_LINES = r"^(?:crawl-delay|host|request-rate|visit-time)\s*:"
#: share of a sitemap's entries that carry one day from which its days are those of its making; entries from which that is told
ONE_DAY, ENTRIES = 0.9, 20
#: days after a page's own day of change from which the day in the sitemap is another, and share of the pages from which that is told
LATER, LATER_SHARE = 30, 0.5


def robots_notes(rules: pd.DataFrame) -> list[Note]:
    """Lines that are no rules, and paths that one agent is both let into and kept from by the same words.

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
        text = f'robots.txt both allows and disallows "{pattern}" to {"all robots" if agent == "*" else agent}: it is open, for the milder rule counts.'
        more = f" The same of {len(both) - 1:,} more." if len(both) > 1 else ""
        result.append({"code": "robots_contradict", "text": text + more})
    return result


def sitemap_notes(entries: pd.DataFrame, changed: pd.Series) -> list[Note]:
    """Days of change (`lastmod`) that cannot be true: nearly all the same, or long after the day that pages themselves tell.

    Args:
        entries: page_id, modified (null where an entry has no day); changed: by page number, the day of change as the crawl tells it, or null.
    """
    days = pd.to_datetime(entries["modified"]).dropna()
    if len(days) < ENTRIES:
        return []
    most = days.dt.normalize().value_counts()
    if most.iloc[0] >= ONE_DAY * len(days):
        text = f"The sitemap gives {most.iloc[0]:,} of {len(days):,} entries the same day of change, {most.index[0]:%Y-%m-%d}: that of its making, which tells robots nothing."
        return [{"code": "sitemap_days", "text": text}]
    own = pd.to_datetime(entries["page_id"].map(changed))
    late = (pd.to_datetime(entries["modified"]) - own).dt.days[own.notna() & entries["modified"].notna()]
    if len(late) >= ENTRIES and (late > LATER).mean() >= LATER_SHARE:
        text = f"The sitemap gives {int((late > LATER).sum()):,} of {len(late):,} pages a day of change more than {LATER} days after their own."
        return [{"code": "sitemap_days", "text": text}]
    return []
