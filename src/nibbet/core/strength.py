"""What works on this site: earnings of sections, kinds, lengths and topics per page and per search, with small groups shrunk to the usual."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core.tables import rows_at
from nibbet.core.windows import MONTH_DAYS
from nibbet.core.words import numbered

Floats = NDArray[np.float64]

STRENGTHS = (
    "level key pages clicks clicks_per_page answered_clicks searches clicks_per_search strength strength_low strength_high sessions conversions "
    "conversions_per_page conversions_per_session conversion_strength"
).split()
#: upper limits of the bands of length, in words
LENGTHS = (400, 800, 1200, 2000)
LENGTH_NAMES = ("under 400 words", "400 to 799 words", "800 to 1,199 words", "1,200 to 1,999 words", "2,000 words and more")


def shrunk_ratio(events: Floats, base: Floats, group: NDArray[np.int64]) -> pd.DataFrame:
    """Per group, events / base relative to that of all groups, shrunk to 1 where groups differ little beyond chance.

    Args:
        events, base: per page, such as clicks and searches; group: number of the group of the page, from 0.
    Returns:
        ratio, low, high (80%), one row per group; null where a group has no base.
    The pages of a group are a sample of such pages: the variance of its log rate is the spread between pages, pooled over groups,
    over their effective number, plus counting noise. Between groups by DerSimonian & Laird (1986, Control. Clin. Trials 7:177).
    """
    count = int(group.max(initial=-1)) + 1
    total, whole = np.bincount(group, events, count), np.bincount(group, base, count)
    known = whole > 0
    rate = (total + 0.5) / np.maximum(whole + 0.5 * whole.sum() / max(total.sum(), 1.0), 1e-9)
    expected = rate[group] * base
    size = np.bincount(group, minlength=count)
    spare = max(float(size[known].sum() - known.sum()), 1.0)
    noise = np.maximum((events - expected) ** 2 - expected, 0.0)
    spread = float(np.clip(noise.sum() / max((expected**2).sum(), 1e-9) * size[known].sum() / spare, 0.0, 4.0))
    among = np.bincount(group, base**2, count) / np.maximum(whole, 1e-9) ** 2
    variance = spread * among + 1 / (total + 0.5)
    value, weight = np.log(rate), np.where(known, 1 / variance, 0.0)
    middle = float((weight * value).sum() / max(weight.sum(), 1e-9))
    excess = float((weight * (value - middle) ** 2).sum()) - (known.sum() - 1)
    between = max(0.0, excess / max(weight.sum() - (weight**2).sum() / max(weight.sum(), 1e-9), 1e-9))
    weight = np.where(known, 1 / (variance + between), 0.0)
    middle = float((weight * value).sum() / max(weight.sum(), 1e-9))
    share = between / (between + variance)
    centre, wide = share * (value - middle), 1.2816 * np.sqrt(share * variance)
    table = pd.DataFrame({"ratio": np.exp(centre), "low": np.exp(centre - wide), "high": np.exp(centre + wide)})
    return table.where(pd.Series(known), np.nan)


def strengths(pages: pd.DataFrame, pairs: pd.DataFrame, demand: pd.Series | None, members: pd.DataFrame, days: int) -> pd.DataFrame:
    """What groups of pages earn, relative to the rest of the site: STRENGTHS, by level and clicks.

    Args:
        pages: indexed by number: clicks, sessions, conversions (null without landings), gone, blocked.
        pairs: the query map: page, query, role, brand, clicks, impressions, share_impressions (of the query) of the recent window.
        demand: searches a month by query, or None; pages with a common query divide them. Impressions are used where searches are unknown.
        members: level, key, page (number): which pages make which group; days: length of the recent window.
    Returns:
        clicks: all of the recent window. searches, answered_clicks: of answered queries without the brand; strength:
        answered clicks per search relative to the usual of the level, shrunk, with an 80% interval; conversion_strength: the same for
        conversions per session.
    """
    rows = rows_at(pairs, ~pairs["brand"] & (pairs["role"] != "stray"), ["page", "query", "clicks", "impressions", "share_impressions"])
    searches = rows["impressions"].astype(float)
    if demand is not None:
        number, texts = numbered(rows)
        searches = searches.clip(
            lower=(texts.map(demand).to_numpy(float)[number] * rows["share_impressions"] * days / MONTH_DAYS).fillna(0.0)
        )
    sums = pd.DataFrame({"answered_clicks": rows["clicks"].astype(float), "searches": searches}).groupby(rows["page"]).sum()
    live = pages[~pages["gone"] & ~pages["blocked"]]
    facts = live[["clicks", "sessions", "conversions"]].astype(float).join(sums).fillna({"answered_clicks": 0.0, "searches": 0.0})
    joined = members.merge(facts, left_on="page", right_index=True)
    tables = [_of_level(str(level), part) for level, part in joined.groupby("level", sort=True)]
    if not tables:
        return pd.DataFrame(columns=STRENGTHS)
    return pd.concat(tables, ignore_index=True).sort_values(["level", "clicks", "key"], ascending=[True, False, True], ignore_index=True)


def _of_level(level: str, rows: pd.DataFrame) -> pd.DataFrame:
    group, names = pd.factorize(rows["key"], sort=True)
    table = rows.groupby(group).agg(
        pages=("page", "size"),
        clicks=("clicks", "sum"),
        answered_clicks=("answered_clicks", "sum"),
        searches=("searches", "sum"),
        sessions=("sessions", lambda v: v.sum(min_count=1)),
        conversions=("conversions", lambda v: v.sum(min_count=1)),
    )
    of_search = shrunk_ratio(rows["answered_clicks"].to_numpy(), rows["searches"].to_numpy(), group)
    of_visits = shrunk_ratio(rows["conversions"].fillna(0).to_numpy(), rows["sessions"].fillna(0).to_numpy(), group)
    return table.assign(
        level=level,
        key=np.asarray(names),
        clicks_per_page=table["clicks"] / table["pages"],
        clicks_per_search=table["answered_clicks"] / table["searches"].where(table["searches"] > 0),
        strength=of_search["ratio"],
        strength_low=of_search["low"],
        strength_high=of_search["high"],
        conversions_per_page=table["conversions"] / table["pages"],
        conversions_per_session=table["conversions"] / table["sessions"].where(table["sessions"] > 0),
        conversion_strength=of_visits["ratio"],
    )[STRENGTHS]


def formats(titles: pd.Series) -> pd.Series:
    """The form of each title: a question, a number of things, in two parts, or plain; null without a title."""
    text = titles.astype("str").str.replace(r"\s+[|–—-]\s+[^|–—-]{1,40}$", "", regex=True)  # remove the name of the site at the end
    kinds = [text.str.contains("?", regex=False), text.str.contains(r"^\W*(?:\S+ )?[2-9]\d?\s+\w"), text.str.contains(r":\s|\s[–—-]\s")]
    result = np.select([kind.fillna(False).to_numpy(bool) for kind in kinds], ["a question", "a count of things", "in two parts"], "plain")
    return pd.Series(result, index=titles.index, dtype="str").where(titles.notna())


def lengths(words: pd.Series) -> pd.Series:
    """The band of length of each page by its words; null where unknown."""
    known = words.notna()
    band = np.searchsorted(LENGTHS, words.fillna(0).to_numpy(float), side="right")
    return pd.Series(np.asarray(LENGTH_NAMES)[band], index=words.index, dtype="str").where(known)
