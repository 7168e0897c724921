"""Which paths robots.txt keeps crawlers from, by RFC 9309: the longest matching rule of the group for all agents wins, allow on a tie."""

from __future__ import annotations

import re

import numpy as np
import pandas as pd


def disallowed(paths: pd.Series, rules: pd.DataFrame) -> pd.Series:
    """Whether each path is closed to crawlers without a group of their own.

    Args:
        paths: path and query. rules: agent, rule (allow, disallow, other), pattern; only those of agent * are used.
    """
    own = rules[(rules["agent"] == "*") & rules["rule"].isin(["allow", "disallow"]) & rules["pattern"].fillna("").ne("")]
    length = np.zeros(len(paths), dtype=np.int64)
    closed = np.zeros(len(paths), dtype=bool)
    ordered = own.assign(size=own["pattern"].str.len(), open=own["rule"] == "allow").sort_values(["size", "open"])
    for pattern, is_open in zip(ordered["pattern"], ordered["open"], strict=True):  # a handful of rules, each over all paths
        hit = paths.str.match(_expression(pattern)).to_numpy(dtype=bool)
        closed[hit], length[hit] = not is_open, len(pattern)
    return pd.Series(closed, index=paths.index)


def _expression(pattern: str) -> str:
    """* stands for anything, $ at the end for the end."""
    body = re.escape(pattern.removesuffix("$")).replace(r"\*", ".*")
    return body + ("$" if pattern.endswith("$") else "")
