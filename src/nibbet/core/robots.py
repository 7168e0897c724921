"""Paths that robots.txt blocks, by RFC 9309: of the rules of the group of an agent the longest match wins, allow on a tie."""

from __future__ import annotations

import re
from collections.abc import Sequence
from urllib.parse import quote, unquote

import numpy as np
import pandas as pd

#: characters that stay unescaped in a path
UNESCAPED = "/?=&:;@!$'()*+,%#[]~"


def disallowed(paths: pd.Series, rules: pd.DataFrame, agents: Sequence[str] = ()) -> pd.Series:
    """Whether each path is blocked for search engines.

    Args:
        paths: path and query. rules: agent, rule (allow, disallow, other), pattern.
        agents: the user agents of the engines that matter: a path is blocked if it is blocked for any of them. Without any, the rules for
            agents without a group of their own apply; if those are blocked from the home page, a path is blocked if it is so for all
            allowed agents.
    """
    if agents:
        return pd.concat([closed_to(agent, paths, rules) for agent in agents], axis=1).any(axis=1)
    if welcome := _welcome(rules):
        return pd.concat([closed_to(agent, paths, rules) for agent in welcome], axis=1).all(axis=1)
    return closed_to("*", paths, rules)


def closed_alone(paths: pd.Series, rules: pd.DataFrame) -> pd.Series:
    """Number of paths blocked for each allowed agent with its own group, and for no other: by agent."""
    usual, home = closed_to("*", paths, rules), pd.Series(["/"])
    named = [agent for agent in rules["agent"].dropna().unique() if agent not in ("", "*")]
    counts = {agent: int((closed_to(agent, paths, rules) & ~usual).sum()) for agent in named if not closed_to(agent, home, rules).any()}
    return pd.Series({agent: count for agent, count in counts.items() if count}, dtype="int64")


def closing_rules(paths: pd.Series, rules: pd.DataFrame, agents: Sequence[str] = ()) -> pd.Series:
    """The rule that blocks each path, in words ("Disallow: /shop/" for all robots); null without one. See `disallowed`."""
    result = pd.Series(None, index=paths.index, dtype="str")
    for agent in agents or _welcome(rules) or ["*"]:
        pattern, is_open = _deciding(agent, paths, rules)
        whom = "all robots" if _group(agent, rules) == "*" else agent
        sentence = '"Disallow: ' + pattern + f'" for {whom}'
        result = result.where(result.notna() | pattern.isna() | is_open, sentence)
    return result


def closed_to(agent: str, paths: pd.Series, rules: pd.DataFrame) -> pd.Series:
    """Whether each path is blocked for an agent: by its own group, or by that for all where it has none."""
    pattern, is_open = _deciding(agent, paths, rules)
    return pattern.notna() & ~is_open


def _names(rules: pd.DataFrame) -> pd.Series:
    """The name of the agent of each rule, in lower case and without its version."""
    return rules["agent"].fillna("").str.lower().str.replace(r"[/\s].*", "", regex=True)


def _group(agent: str, rules: pd.DataFrame) -> str:
    """The agent whose rules apply to this one: itself where it has its own group, else *."""
    name = re.split(r"[/\s]", agent.strip().lower(), maxsplit=1)[0]
    return name if (_names(rules) == name).any() else "*"


def _deciding(agent: str, paths: pd.Series, rules: pd.DataFrame) -> tuple[pd.Series, pd.Series]:
    """The pattern of the rule that decides on each path for an agent, null where none does; and whether it allows the path."""
    group = _names(rules) == _group(agent, rules)
    of_group = rules[group & rules["rule"].isin(["allow", "disallow"]) & rules["pattern"].fillna("").ne("")]
    odd = paths.str.contains(r"[^\x00-\x7f]|%", regex=True)
    plain = paths.where(~odd, paths[odd].map(_escaped)) if odd.any() else paths
    ordered = of_group.assign(escaped=of_group["pattern"].map(_escaped), open=of_group["rule"] == "allow")
    ordered = ordered.assign(size=ordered["escaped"].str.len()).sort_values(["size", "open"], ignore_index=True)
    last = np.full(len(paths), -1)
    for number, pattern in enumerate(ordered["escaped"]):  # there are few rules, each applied to all paths
        last[plain.str.match(_expression(pattern)).to_numpy(dtype=bool)] = number
    rule = pd.Series(last, index=paths.index)
    is_open = rule.map(ordered["open"]).eq(True)
    return rule.map(ordered["pattern"]).astype("str"), is_open


def _welcome(rules: pd.DataFrame) -> list[str]:
    """The agents allowed where robots.txt blocks all others from the home page."""
    home = pd.Series(["/"])
    if not closed_to("*", home, rules).iloc[0]:
        return []
    named = [agent for agent in rules["agent"].dropna().unique() if agent not in ("", "*")]
    return [agent for agent in named if not closed_to(agent, home, rules).iloc[0]]


def _escaped(path: str) -> str:
    """A path with normalised percent-encoding; escaped special characters stay escaped."""
    parts = re.split(r"(%2[aA]|%24|%2[fF])", path)  # an escaped *, $ or / has no special meaning
    return "".join(part.upper() if number % 2 else quote(unquote(part), safe=UNESCAPED) for number, part in enumerate(parts))


def _expression(pattern: str) -> str:
    """The regular expression of a pattern: * matches anything, $ at the end matches the end."""
    body = re.sub(r"(\\\*)+", ".*", re.escape(pattern.removesuffix("$")))
    return body + ("$" if pattern.endswith("$") else "")
