"""The figures of Nibbet, each from a finished table to a Matplotlib figure: `figures.trend(site.days, site.windows).savefig("trend.png")`."""

from nibbet.render.figures import (
    ctr_curve,
    movers,
    positions,
    rivals,
    season_ahead,
    topic_map,
    topic_queries,
    topics_open,
    trend,
    verdict_overview,
)

__all__ = [
    "ctr_curve",
    "movers",
    "positions",
    "rivals",
    "season_ahead",
    "topic_map",
    "topic_queries",
    "topics_open",
    "trend",
    "verdict_overview",
]
