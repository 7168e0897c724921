"""Long-term development of pages and topics: evergreen, seasonal, fading, growing, short-lived, or an event that is over."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.wording import pages as wording

LIVES = "level key life season clicks height peak begins ready_by since depth event_from event_to because".split()
#: the lives, in order of precedence, for keys with enough clicks
KINDS = ["event over", "one peak", "short-lived", "fading", "growing", "seasonal", "evergreen", "unknown"]
FALLS, RISES = ("collapse", "slow decay"), ("rise",)


def lives(level: str, trends: pd.DataFrame, calendar: pd.DataFrame, season: pd.Series, clicks: pd.Series) -> pd.DataFrame:
    """The life of each key with enough clicks: LIVES, in the order of `trends`.

    Args:
        level: page or topic; trends: as `core.decline.trends`, by key; calendar: as `core.season.season_calendar`, by key; season: own,
            section, evergreen or unknown, by key; clicks: of all whole weeks, by key.
    Returns:
        life: event over (nearly all clicks by one event), one peak (the same, but it may be a season), short-lived (most in its first weeks), fading or growing (a lasting change),
            seasonal (its own wave or that of its section), evergreen (none of these for more than a year), unknown (less than a year).
    """
    rows, wave = trends, calendar.reindex(trends.index)
    seasonality = season.reindex(trends.index).fillna("unknown")
    real, kind = rows["real"].astype(bool), rows["kind"].astype("str")
    waves = seasonality.isin(["own", "section"]) & wave["peak"].notna()
    life = np.select(
        [
            rows["event_to"].notna() & rows["event_sure"],
            rows["event_to"].notna(),
            rows["life"].eq("short-lived"),
            real & kind.isin(FALLS),
            real & kind.isin(RISES),
            waves,
            seasonality.ne("unknown"),
        ],
        KINDS[:-1],
        KINDS[-1],
    )
    table = pd.DataFrame(
        {
            "level": level,
            "key": trends.index,
            "life": life,
            "season": seasonality.to_numpy(),
            "clicks": clicks.reindex(trends.index).fillna(0).astype("int64").to_numpy(),
        }
    )
    for name in ("height", "peak", "begins", "ready_by"):
        table[name] = wave[name].where(waves).to_numpy()
    for name in ("since", "depth"):
        table[name] = rows[name].where(real).to_numpy()
    for name in ("event_from", "event_to"):
        table[name] = rows[name].to_numpy()
    return table.assign(because=wording.lives(table))[LIVES]
