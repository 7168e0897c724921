"""Recognises robots and scripts among the clients of a server log, by a maintained library of user agents."""

from __future__ import annotations

import pandas as pd

SCRIPT = r"(?i)bot|crawl|spider|curl|wget|python|java/|go-http|libwww|okhttp|httpclient|headless|monitor|preview|scan"


def automated(agents: pd.Series) -> pd.Series:
    """Per agent text, whether it is automated: a known robot, a script, or without an operating system."""
    from ua_parser import parse

    result = [parse(agent) for agent in agents]
    known = pd.Series(
        [bool((one.device and one.device.family == "Spider") or one.os is None) for one in result], index=agents.index, dtype=bool
    )
    return known | agents.str.contains(SCRIPT, regex=True)
