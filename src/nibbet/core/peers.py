"""Pages compared with their peers: rates of sections and named groups, members that fall short, and segments that deviate from the rest of a
page.
"""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from nibbet.core.pull import JUDGED, false_discovery, judged_pull, weighted_position
from nibbet.core.ratios import usual_spread
from nibbet.core.tables import THIN_CLICKS

Floats = NDArray[np.float64]

#: trials (sessions) from which a share is judged
LEAST_TRIALS = 30
#: spread of the shares of similar pages beyond counting (arcsine scale): default, limits, least number of rows, rounds of estimation
SPREAD, SPREADS, TELLING_ROWS, ROUNDS = 0.15, (0.02, 1.0), 20, 6
#: weight of the other segments of a page, in expected clicks
PRIOR_CLICKS = 5.0
#: weight of the seconds per session of a section, in sessions
SECONDS_SESSIONS = 30.0
PARTS = (
    "level key pages clicks impressions ctr position pull sessions engagement_rate seconds_per_session conversions "
    "conversions_per_session revenue"
).split()
PEERS = "page level key measure count of value shrunk usual q_value flag".split()
SEGMENTS = (
    "page dimension value clicks impressions position expected_clicks pull usual q_value flag sessions engagement_rate engagement_usual "
    "engagement_flag"
).split()


def share_among_peers(
    events: Floats, trials: Floats, group: NDArray[np.int64], *, level: float = 0.05, least: float = LEAST_TRIALS
) -> pd.DataFrame:
    """A share per row (engaged sessions of sessions) compared with that of its group.

    Args:
        events, trials: counts per row; group: number of the group of the row; level: false discovery rate on each side; least: trials from
            which a row is judged.
    Returns:
        value (events / trials), usual (the share of the group from its sums, without the row), shrunk (to the usual, more so if pages of a
        group differ little), q_value, flag (low, high or ""). On the variance-stabilising arcsine scale (Anscombe 1948, Biometrika 35:246);
        the spread beyond counting noise is estimated from the quartiles of rows with at least that many trials.
    """
    whole = [np.bincount(group, counts)[group] for counts in (events, trials)]
    rest = [total - own for total, own in zip(whole, (events, trials), strict=True)]
    usual = np.where(rest[1] > 0, (rest[0] + 0.5) / np.maximum(rest[1] + 1, 1.0), np.nan)
    known = (trials >= least) & np.isfinite(usual)
    angle = 2 * (_arcsine(events, trials) - np.arcsin(np.sqrt(np.clip(np.nan_to_num(usual, nan=0.5), 0, 1))))
    counting = 1 / (trials + 0.5) + 1 / np.maximum(rest[1], 1.0)
    spread = SPREAD
    if known.sum() >= TELLING_ROWS:
        for _ in range(ROUNDS):
            unit = angle[known] / np.sqrt(counting[known] + spread**2)
            spread = float(np.clip(spread * usual_spread(unit), *SPREADS))
    z = angle / np.sqrt(counting + spread**2)
    low, high = (false_discovery(np.where(known, tail, np.nan)) for tail in (special.ndtr(z), special.ndtr(-z)))
    q = np.where(z < 0, low, high)
    weight = 1 / spread**2
    return pd.DataFrame(
        {
            "value": np.where(trials > 0, events / np.maximum(trials, 1e-9), np.nan),
            "usual": usual,
            "shrunk": np.where(np.isfinite(usual), (events + weight * np.nan_to_num(usual)) / (trials + weight), np.nan),
            "q_value": q,
            "flag": np.where(known & (q < level), np.where(z < 0, "low", "high"), ""),
        }
    )


def _arcsine(events: Floats, trials: Floats) -> Floats:
    angle: Floats = np.arcsin(np.sqrt(np.clip((events + 0.375) / (trials + 0.75), 0, 1)))
    return angle


def _numbered(rows: pd.DataFrame, *by: str) -> NDArray[np.int64]:
    """The number of the group of each row, from 0."""
    return np.asarray(rows.groupby(list(by), sort=False, dropna=False).ngroup(), dtype=np.int64)


def beside_peers(pages: pd.DataFrame, members: pd.DataFrame) -> pd.DataFrame:
    """Members of a section or group that fall below (or rise above) its rates.

    Args:
        pages: indexed by number: clicks_plain and expected_plain (without the brand), sessions, engaged_sessions, engagement_seconds,
            conversions (null without landings).
        members: level, key, page (number): one row per membership.
    Returns:
        PEERS, the page by its number: only rows with a flag. Measures: pull (clicks relative to those expected at the pull of the group),
            engagement_rate and seconds_per_session (never flagged alone) and conversions_per_session; `value` is `count` / `of`.
    """
    rows = members.merge(pages, left_on="page", right_index=True)
    if rows.empty:
        return pd.DataFrame(columns=PEERS)
    group = _numbered(rows, "level", "key")
    result = [_of_counts(rows, group, "clicks_plain", "expected_plain", "pull")]
    known = rows["sessions"].notna()
    if known.any():
        sessions, engaged = (rows[name].fillna(0).to_numpy(float) for name in ("sessions", "engaged_sessions"))
        share = share_among_peers(engaged, sessions, group)
        result.append(_named(rows, share, "engagement_rate", engaged, sessions))
        result.append(_of_counts(rows, group, "conversions", "sessions", "conversions_per_session"))
    table = pd.concat(result, ignore_index=True)
    return table[table["flag"] != ""].sort_values(["level", "key", "measure", "q_value", "page"], ignore_index=True)


def _of_counts(rows: pd.DataFrame, group: NDArray[np.int64], count: str, base: str, measure: str) -> pd.DataFrame:
    """Counts compared with those expected at the rate of the rest of the group."""
    x, n = rows[count].fillna(0).to_numpy(float), rows[base].fillna(0).to_numpy(float)
    rest = [np.bincount(group, counts)[group] - counts for counts in (x, n)]
    usual = np.where(rest[1] > 0, rest[0] / np.maximum(rest[1], 1e-9), np.nan)
    expected = n * np.nan_to_num(usual)
    judged = judged_pull(x, expected)
    table = pd.DataFrame(
        {
            "value": np.where(n > 0, x / np.maximum(n, 1e-9), np.nan),
            "usual": usual,
            "shrunk": judged["pull"] * usual,
            "q_value": judged["q_value"],
            "flag": judged["flag"],
        }
    )
    return _named(rows, table, measure, x, n)


def _named(rows: pd.DataFrame, table: pd.DataFrame, measure: str, count: Floats, of: Floats) -> pd.DataFrame:
    keys = {name: rows[name].to_numpy() for name in ("page", "level", "key")}
    return table.assign(**keys, measure=measure, count=count, of=of)[PEERS]


def rates_of_parts(pages: pd.DataFrame, members: pd.DataFrame) -> pd.DataFrame:
    """The sums and rates of the site, its sections and named groups: PARTS. Rates come from sums and are never averaged.

    Args:
        pages: as in `beside_peers`, with clicks, impressions, position, revenue; members: level, key, page.
    """
    sums = [
        "clicks",
        "impressions",
        "clicks_plain",
        "expected_plain",
        "sessions",
        "engaged_sessions",
        "engagement_seconds",
        "conversions",
        "revenue",
    ]
    table = pages[sums].astype("float64").assign(placed=pages["impressions"].where(pages["position"].notna(), 0), position_sum=0.0)
    table["position_sum"] = (pages["position"] * pages["impressions"]).fillna(0.0)
    whole = pd.DataFrame({"level": "site", "key": "site", "page": pages.index})
    rows = pd.concat([whole, members], ignore_index=True).merge(table, left_on="page", right_index=True)
    result = rows.groupby(["level", "key"], sort=False).agg(
        pages=("page", "size"), **{name: (name, lambda v: v.sum(min_count=1)) for name in [*sums, "position_sum", "placed"]}
    )
    result = result.reset_index()
    result["ctr"] = result["clicks"] / result["impressions"].where(result["impressions"] > 0)
    result["position"] = weighted_position(result["position_sum"], result["placed"])
    result["pull"] = result["clicks_plain"] / result["expected_plain"].where(result["expected_plain"] >= THIN_CLICKS)
    sessions = result["sessions"].where(result["sessions"] > 0)
    result["engagement_rate"] = result["engaged_sessions"] / sessions
    result["seconds_per_session"] = result["engagement_seconds"] / sessions
    result["conversions_per_session"] = result["conversions"] / sessions
    return result[PARTS]


def odd_segments(rows: pd.DataFrame, visits: pd.DataFrame | None) -> pd.DataFrame:
    """Pages that do well in one country, device or surface and badly in another.

    Args:
        rows: page, dimension, value, clicks, impressions, position, expected_clicks (without the brand), one row per page and value.
        visits: page, dimension, value, sessions, engaged_sessions, or None.
    Returns:
        SEGMENTS where pull or engagement is flagged: `usual` is the pull (engagement) of the same page in its other segments, so a
        page with low pull everywhere is not listed; both flags have their own false discovery rate over all segments.
    """
    group = _numbered(rows, "dimension", "page")
    clicks, expected = rows["clicks"].to_numpy(float), rows["expected_clicks"].to_numpy(float)
    rest = [np.bincount(group, counts)[group] - counts for counts in (clicks, expected)]
    usual = (rest[0] + PRIOR_CLICKS) / (rest[1] + PRIOR_CLICKS)
    known = rest[1] >= THIN_CLICKS
    judged = judged_pull(clicks, np.where(known, expected * usual, 0.0))
    table = rows.assign(
        pull=np.where(expected >= THIN_CLICKS, clicks / np.maximum(expected, 1e-9), np.nan), usual=np.where(known, usual, np.nan)
    )
    table = table.assign(q_value=judged["q_value"].to_numpy(), flag=judged["flag"].to_numpy())
    keys = ["page", "dimension", "value"]
    if visits is None or visits.empty:
        table = table.assign(sessions=np.nan, engagement_rate=np.nan, engagement_usual=np.nan, engagement_flag="")
    else:
        same = _numbered(visits, "dimension", "page")
        share = share_among_peers(visits["engaged_sessions"].to_numpy(float), visits["sessions"].to_numpy(float), same)
        seen = visits[[*keys, "sessions"]].assign(
            engagement_rate=share["value"].to_numpy(), engagement_usual=share["usual"].to_numpy(), engagement_flag=share["flag"].to_numpy()
        )
        table = table.merge(seen, on=keys, how="left")
        table["engagement_flag"] = table["engagement_flag"].fillna("")
    table = table[(table["flag"] != "") | (table["engagement_flag"] != "")]
    return table.sort_values(["q_value", *keys], ignore_index=True)[SEGMENTS]


ENGAGEMENT = (
    "page channel sessions engagement_rate engagement_shrunk engagement_usual q_value flag seconds_per_session seconds_shrunk seconds_usual "
    "conversions conversions_per_session revenue"
).split()


def engagement_by_channel(rows: pd.DataFrame, section: pd.Series) -> pd.DataFrame:
    """Engagement of each page and channel, compared with the same channel on the other pages of its section.

    Args:
        rows: page (number), channel, sessions, engaged_sessions, engagement_seconds, conversions, revenue; section: of each page.
    Returns:
        ENGAGEMENT by page and sessions: `_usual` is from the sums of the other pages of the section, `_shrunk` is shrunk to that where
            there are few sessions; flag (low or high) is for the engagement rate, at 5% false discovery.
    """
    keys = pd.DataFrame({"channel": rows["channel"], "section": rows["page"].map(section)})
    group = _numbered(keys, "channel", "section")
    sessions, seconds = rows["sessions"].to_numpy(float), rows["engagement_seconds"].to_numpy(float)
    share = share_among_peers(rows["engaged_sessions"].to_numpy(float), sessions, group)
    rest = [np.bincount(group, counts)[group] - counts for counts in (seconds, sessions)]
    usual = np.where(rest[1] > 0, rest[0] / np.maximum(rest[1], 1e-9), np.nan)
    table = rows.assign(
        engagement_rate=share["value"].to_numpy(),
        engagement_shrunk=share["shrunk"].to_numpy(),
        engagement_usual=share["usual"].to_numpy(),
        q_value=share["q_value"].to_numpy(),
        flag=share["flag"].to_numpy(),
        seconds_per_session=seconds / sessions,
        seconds_usual=usual,
        seconds_shrunk=np.where(
            np.isfinite(usual), (seconds + SECONDS_SESSIONS * np.nan_to_num(usual)) / (sessions + SECONDS_SESSIONS), seconds / sessions
        ),
        conversions_per_session=rows["conversions"].to_numpy(float) / sessions,
    )
    return table.sort_values(["page", "sessions", "channel"], ascending=[True, False, True], ignore_index=True)[ENGAGEMENT]


PULLS = ["page", "query", "clicks", "expected_clicks", "position", *JUDGED]


def judged_pulls(pages: pd.DataFrame, pairs: pd.DataFrame) -> pd.DataFrame:
    """Pull with interval and flag of pages and of pairs, those that lose most clicks first: PULLS.

    Args:
        pages: page, clicks, expected_clicks, position of each page over its queries without the brand; pairs: the same with query.
    Returns:
        Rows of pages have no query. Only rows with THIN_CLICKS expected clicks; pages and pairs have separate false discovery rates.
    """
    parts = []
    for rows in (pages.assign(query=None), pairs):
        known = rows[rows["expected_clicks"] >= THIN_CLICKS].reset_index(drop=True)
        judged = judged_pull(known["clicks"].to_numpy(float), known["expected_clicks"].to_numpy(float))
        table = pd.concat([known, judged], axis=1)
        rank = {"low": 0, "": 1, "high": 2}
        order = np.lexsort([known["page"].to_numpy(), -table["lost"].to_numpy(), table["flag"].map(rank).to_numpy()])
        parts.append(table.iloc[order])
    return pd.concat(parts, ignore_index=True)[PULLS].astype({"query": "str"})
