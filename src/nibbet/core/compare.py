"""Comparison of two windows at any level: site, section, group, page, query, brand, device, country, surface, channel, source of visits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core.brand import without_brand
from nibbet.core.change import LEAST_ROWS, change, drift_of, row_drifts
from nibbet.core.split import ROWS, Sight, split, split_ratio
from nibbet.core.tables import PARTS, spelt
from nibbet.core.windows import Windows
from nibbet.core.words import Lexicon, numbered, rarity

Floats = NDArray[np.float64]

LEVELS = ("site", "section", "group", "brand", "device", "country", "surface", "channel", "source", "topic", "page", "moved page", "query")
CHANGES = (
    "level key measure recent reference change change_share change_low change_high real demand rank pull access untold season volume rate "
    "contribution why impressions impressions_reference impressions_change"
).split()
LOSSES = "page subject queries recent reference change change_low change_high real demand rank pull access untold why".split()
IMPRESSIONS = ["impressions", "impressions_reference", "impressions_change"]
#: share of the loss of a page's losing queries that a word must cover to name the loss
NAMES_LOSS = 0.6
#: share of a change from which the season explains it
SEASON_SHARE = 0.5


def nothing(columns: list[str]) -> pd.DataFrame:
    """An empty table with these columns."""
    texts = {"level", "key", "measure", "page", "subject", "why"}
    return pd.DataFrame({name: pd.Series(dtype="str" if name in texts else bool if name == "real" else "float64") for name in columns})


@dataclass(frozen=True)
class Terms:
    """What all levels have in common: the factor of the reference (length, weekdays), the least real change, the noise shared by all pages,
    how far searchers look, whether impressions of both windows are counted alike, and whether the mean positions of pages say where they
    are found (see `core.curve.places_tell`).
    """

    scale: float
    beyond: float
    noise: float
    sight: Sight
    counted_alike: bool = True
    places_tell: bool = True


def shared_noise(days: pd.DataFrame, windows: Windows) -> float:
    """The noise of a whole series between two windows: the variation of its weeks around a straight line, scaled to the length of the
    windows.

    Args:
        days: date, clicks: one row per day.
    Returns:
        A standard deviation of the log ratio; correlated weeks (lag one) count as fewer. 0.05 where a window has fewer than four
        whole weeks.
    """
    variance = 0.0
    for window in (windows.recent, windows.reference):
        in_window = days[window.holds(days["date"])].sort_values("date")
        clicks = in_window["clicks"].to_numpy(float)
        weeks = len(clicks) // 7
        if weeks < 4:
            return 0.05
        week = clicks[-7 * weeks :].reshape(weeks, 7).sum(axis=1)
        line = np.polyval(np.polyfit(np.arange(weeks), week, 1), np.arange(weeks))
        rest = (week - line) / max(week.mean(), 1e-9)
        spread = max(float((rest**2).sum() / (weeks - 2)) - 1 / max(week.mean(), 1.0), 0.0)
        tied = float(np.clip((rest[1:] * rest[:-1]).sum() / max((rest**2).sum(), 1e-9), 0.0, 0.8))
        variance += spread * (1 + tied) / (1 - tied) / weeks
    return float(np.clip(np.sqrt(variance), 0.02, 0.5))


def own_season(last_year: pd.DataFrame, season: Floats, scale: float) -> Floats:
    """Per page, the factor between the windows due to its own season: its change between the same days a year earlier.

    Args:
        last_year: recent, reference: clicks in the windows a year earlier, in the order of `season`; season: the factor of its section.
    Returns:
        The factor of the section, moved towards that of the page as far as its counts and the spread between pages allow (empirical Bayes).
    """
    now, then = last_year["recent"].to_numpy(float), last_year["reference"].to_numpy(float) * scale * season
    apart = np.log((now + 0.5) / (then + 0.5))
    noise = drift_of(now, np.maximum(then, 1e-9), 1.0)
    doubt = 1 / (now + 0.5) + 1 / (then + 0.5) + min(noise, 0.15) ** 2
    busy = np.minimum(now, then) >= 20
    middle = float(np.median(apart[busy])) if busy.any() else 0.0  # a change of the whole site is no season
    between = max(float(np.mean((apart[busy] - middle) ** 2 - doubt[busy])), 0.05**2) if busy.sum() >= LEAST_ROWS else 0.1**2
    factor: Floats = season * np.exp(np.where(now + then > 0, (apart - middle) * between / (between + doubt), 0.0))
    return factor


def page_noise(recent: Floats, reference: Floats, scale: float, season: Floats, traits: Floats) -> Floats:
    """Per page, its noise between two windows (a standard deviation of the log ratio, beyond counting and the noise shared by all pages).

    Args:
        recent, reference: clicks; scale: factor of the reference; season: per page, the factor of its season; traits: pages x what shows how
            noisy a page is (see `core.change.row_drifts`), NaN where unknown.
    Returns:
        The drift of unaffected pages with such traits, in steps of 0.01.
    """
    noise: Floats = np.round(row_drifts(recent, reference, scale * season, traits), 2).astype(np.float64)
    return noise


def mean_noise(clicks: Floats, noise: Floats, key: NDArray[np.int64], keys: int) -> Floats:
    """Per key, the noise of the sum of its members, whose independent noise partly cancels out.

    Args:
        clicks, noise: of each member; key: the number of its key, below `keys`.
    """
    weight = clicks + 1e-9
    square = np.bincount(key, (weight * noise) ** 2, keys)
    spread: Floats = np.sqrt(square) / np.maximum(np.bincount(key, weight, keys), 1e-9)
    return spread


def compared(
    rows: pd.DataFrame,
    level: str,
    terms: Terms,
    *,
    noise: Floats | float,
    measure: str = "clicks",
    season: Floats | float = 1.0,
    whole: float | None = None,
    known: NDArray[np.bool_] | None = None,
) -> pd.DataFrame:
    """The change of each row with its interval, whether it is real, and its contribution to the whole.

    Args:
        rows: key, recent, reference (counts, not scaled); impressions and impressions_reference (not scaled) where they are known.
        noise: per row, its own noise (`page_noise`, `mean_noise`), in addition to the shared noise.
        season: per row, the factor due to the season alone; a change is real only beyond it.
        whole: the reference of the level (scaled), where `rows` are only part of it; known: see `core.change.change`.
    Returns:
        The columns CHANGES, with the parts null: `reference` is scaled; contribution is change / the whole reference of the level.
    """
    recent, reference = rows["recent"].to_numpy(float), rows["reference"].to_numpy(float)
    factor = np.broadcast_to(np.asarray(season, dtype=np.float64), recent.shape)
    spread = np.hypot(np.broadcast_to(np.asarray(noise, dtype=np.float64), recent.shape), terms.noise)
    result = change(recent, reference, scale=terms.scale, beyond=terms.beyond, noise=spread, season=factor, known=known)
    base = reference * terms.scale
    table = pd.DataFrame({"level": level, "key": rows["key"].to_numpy(), "measure": measure, "recent": recent, "reference": base})
    for name in ("change", "change_share", "change_low", "change_high"):
        table[name] = result[name]
    table["real"] = result["change_real"]
    table["season"] = base * (factor - 1)
    whole = base.sum() if whole is None else whole
    table["contribution"] = table["change"] / whole if whole > 0 else np.nan
    for name in (*PARTS, "volume", "rate", *IMPRESSIONS):
        table[name] = np.nan
    table["why"] = ""
    if "impressions" in rows:
        shown, before = rows["impressions"].to_numpy(float), rows["impressions_reference"].to_numpy(float) * terms.scale
        table = table.assign(impressions=shown, impressions_reference=before, impressions_change=shown - before)
    return table[CHANGES]


def with_parts(
    table: pd.DataFrame, parts: pd.DataFrame, key: Any, kind: pd.Series, *, whole: pd.Series | None = None, taken: Floats | float = 0.0
) -> pd.DataFrame:
    """A table of `compared` with parts summed from those of the pairs (`core.split.row_parts`), and why.

    Args:
        key: of each pair, its key; kind: of each pair, the access of its page (`core.access`); whole: of each row of the
            table, its access as a whole, where rows are pages; taken: of each, the clicks taken over (see `core.split.split`): the rest of
            its change is split.
    """
    totals = pd.DataFrame({"key": table["key"], "clicks_recent": table["recent"], "clicks_reference": table["reference"]})
    if whole is not None:
        totals["taken_over"] = taken
        totals["came"] = whole.ne("").to_numpy() & (totals["taken_over"] <= 0)
    result = split(parts, key, totals, by="key")
    kinds = whole if whole is not None else _largest_kind(table["key"], key, parts["access"].to_numpy(float), kind)
    return named_why(table.assign(**{name: result[name].to_numpy() for name in PARTS}), kinds)


def summed_parts(table: pd.DataFrame, fine: pd.DataFrame, key: Any, kind: pd.Series) -> pd.DataFrame:
    """A table of `compared` whose parts are the sums of a finer level (`fine`, keyed by `key`, each with its `kind` of access), which also add
    up to its change exactly.
    """
    sums = fine.groupby(key)[[*PARTS, "season"]].sum().reindex(table["key"]).fillna(0.0)
    kinds = _largest_kind(table["key"], key, fine["access"].to_numpy(float), kind)
    return named_why(table.assign(**{name: sums[name].to_numpy() for name in (*PARTS, "season")}), kinds)


def _largest_kind(wanted: pd.Series, key: Any, access: Floats, kind: pd.Series) -> pd.Series:
    """Per key wanted, the kind of access with the largest part."""
    rows = pd.DataFrame({"key": np.asarray(key), "kind": kind.to_numpy(), "access": access})
    rows = rows[(rows["kind"] != "") & rows["key"].notna()]
    sums = rows.groupby(["key", "kind"], observed=True)["access"].sum().abs().reset_index()
    best = sums.sort_values(["key", "access", "kind"], ascending=[True, False, True]).drop_duplicates("key").set_index("key")["kind"]
    return best.reindex(wanted).fillna("")


def named_why(table: pd.DataFrame, kind: pd.Series) -> pd.DataFrame:
    """`why` in a word: the largest part of the change; for access its `kind` (new, gone, moved, blocked); season where that explains
    most of it; empty where untold.

    A change whose interval contains 0 needs no explanation, except that a dip due to the season is named.
    """
    sign = np.sign(table["change"].to_numpy(float))
    parts = table[PARTS].fillna(0.0).to_numpy(float) * sign[:, None]
    word = np.array(PARTS, dtype=object)[parts.argmax(axis=1)]
    word = np.where(word == "access", kind.to_numpy(dtype=object), word)
    size = np.abs(table["change"].to_numpy(float))
    seasonal = (table["season"].to_numpy(float) * sign >= SEASON_SHARE * size) & (size > 0)
    known = (table["change_low"] > 0) | (table["change_high"] < 0)
    # the rest is judged without the season: a real change beyond it has its own cause
    return table.assign(why=np.where(known & (size > 0), np.where(seasonal & ~table["real"].to_numpy(bool), "season", word), ""))


#: the funnels after the click: measure -> the count before it, and its own; organic with organic, all with all
CHAINS = {
    "sessions from search": ("clicks", "sessions_organic"),
    "engaged sessions from search": ("sessions_organic", "engaged_organic"),
    "conversions from search": ("sessions_organic", "conversions_organic"),
    "conversions": ("sessions", "conversions"),
}
BEFORE = {"clicks": "clicks", "sessions_organic": "sessions from search", "sessions": "sessions"}


def of_visits(rows: pd.DataFrame, level: str, terms: Terms, *, noise: Floats | float, season: Floats | float) -> pd.DataFrame:
    """The funnels after the click, see CHAINS.

    Args:
        rows: key, then clicks, sessions_organic, engaged_organic, conversions_organic, sessions, conversions with the suffixes `_recent`
            and `_reference`;
            a funnel is left out where one of its counts is missing.
    Returns:
        The columns CHANGES: `volume` is the part due to the preceding count of the funnel, `rate` the part due to the ratio to it.
    """
    result = []
    for measure, (first, last) in CHAINS.items():
        if not {f"{first}_recent", f"{last}_recent"} <= set(rows):
            continue
        counts = pd.DataFrame({"key": rows["key"], "recent": rows[f"{last}_recent"], "reference": rows[f"{last}_reference"]})
        table = compared(counts, level, terms, measure=measure, noise=noise, season=season)
        now = rows[[f"{first}_recent", f"{last}_recent"]].set_axis([first, last], axis=1)
        then = rows[[f"{first}_reference", f"{last}_reference"]].set_axis([first, last], axis=1) * terms.scale
        parts = split_ratio(now, then, [first, last])
        table["volume"], table["rate"] = parts[first].to_numpy(), parts[last].to_numpy()
        share = np.abs(table["rate"]) > np.abs(table["volume"])
        known = (table["change_low"] > 0) | (table["change_high"] < 0)
        before = BEFORE[first]
        table["why"] = np.where(known, np.where(share, f"{measure.split(' from')[0]} per {before.split(' from')[0][:-1]}", before), "")
        result.append(table)
    return pd.concat(result, ignore_index=True) if result else nothing(CHANGES)


def losing_subjects(pairs: pd.DataFrame, parts: pd.DataFrame, pages: pd.DataFrame, terms: Terms, language: str) -> pd.DataFrame:
    """Queries of a page that lose together, reported as one loss under the words they share.

    Args:
        pairs: page, query, brand, clicks, clicks_reference (not scaled), no withheld rows; parts: their `core.split.row_parts`; pages:
            noise, season (factor) and access (kind) of each page.
    Returns:
        LOSSES, at most one row per page: `subject` is up to three words, each part of queries that make up most of the loss of the losing
        queries. The sums include all queries of the page with these words, losing or not, so that there is no selection bias.
    """
    named = [f"by_{name}" for name in ROWS]
    plain = pairs.assign(**dict(zip(named, parts[ROWS].to_numpy().T, strict=True)))[~pairs["brand"].astype(bool)]
    lost = (plain["clicks_reference"] * terms.scale - plain["clicks"]).to_numpy(float)
    per_page = pd.Series(np.maximum(lost, 0)).groupby(plain["page"].to_numpy()).sum()
    losers = per_page[per_page >= 5].index
    plain = plain[plain["page"].isin(losers)].reset_index(drop=True)
    if plain.empty:
        return nothing(LOSSES)
    lost = np.maximum((plain["clicks_reference"] * terms.scale - plain["clicks"]).to_numpy(float), 0)
    lexicon = Lexicon(language)
    number, texts = numbered(plain)
    known = lexicon.matrix(texts)
    words = known[number].tocoo()
    page, addresses = pd.factorize(plain["page"], sort=True)
    cell, where = np.unique(page[words.row].astype(np.int64) * words.shape[1] + words.col, return_inverse=True)
    by_word, queries = np.bincount(where, lost[words.row]), np.bincount(where)
    whole = np.bincount(page, lost, minlength=len(addresses))
    of_page, word = cell // words.shape[1], cell % words.shape[1]
    telling = rarity(known)
    names = (by_word >= NAMES_LOSS * whole[of_page]) & (queries >= 2)
    order = np.lexsort([word, -telling[word], -by_word * names, of_page])
    place = np.arange(len(order)) - np.searchsorted(of_page[order], of_page[order])
    chosen = order[names[order] & (place < 3)]
    wanted = np.zeros(len(cell), dtype=bool)
    wanted[chosen] = True
    need = np.bincount(of_page[chosen], minlength=len(addresses))
    has = np.bincount(words.row[wanted[where]], minlength=len(plain))
    inside = (need[page] > 0) & (has == need[page])
    rows = plain[inside]
    sums = rows.groupby("page").agg(queries=("query", "size"), recent=("clicks", "sum"), reference=("clicks_reference", "sum"))
    sums = sums[sums["queries"] >= 2].reset_index(names="key")
    of_keys = pages.reindex(sums["key"])
    season = of_keys["season"].to_numpy(float)
    table = compared(sums[["key", "recent", "reference"]], "subject", terms, noise=of_keys["noise"].to_numpy(float), season=season)
    of_rows = rows[named].set_axis(ROWS, axis=1)
    table = with_parts(table, of_rows, rows["page"], rows["page"].map(pages["access"]), whole=of_keys["access"])
    table = table.assign(page=table["key"], queries=sums["queries"].to_numpy())
    table = table[(table["change"] < 0) & table["real"]]
    stems = pd.DataFrame({"page": addresses[of_page[chosen]], "stem": word[chosen]})
    subject = _in_words(rows[rows["page"].isin(table["key"])], lost, stems, lexicon)
    table = table.assign(subject=table["key"].map(subject))
    return table.sort_values(["change", "page"], ignore_index=True)[LOSSES]


def _in_words(rows: pd.DataFrame, lost: Floats, stems: pd.DataFrame, lexicon: Lexicon) -> pd.Series:
    """Per page, the naming words as spelled in the query with the largest loss.

    Args:
        stems: page, stem: the columns of the naming words.
    """
    best = rows.assign(lost=lost[rows.index]).sort_values(["lost", "query"], ascending=[False, True]).drop_duplicates("page")
    parts = spelt(best.set_index("page")["query"]).str.split().explode().reset_index()
    column = lexicon.matrix(parts["query"]).tocoo()
    words = parts.iloc[column.row].assign(stem=column.col).merge(stems, on=["page", "stem"])
    known: pd.Series = words.groupby("page", sort=False)["query"].agg(lambda texts: " ".join(dict.fromkeys(texts)))
    return known


def with_brand(pairs: pd.DataFrame, brand: Sequence[str]) -> pd.DataFrame:
    """The pairs of brand queries with `subject`: a word searched together with the brand, one row per word; queries of the brand alone are
    left out.

    Args:
        pairs: query and any other columns; brand: its spellings.
    """
    number, texts = numbered(pairs)
    words = without_brand(texts, brand).str.split().explode().dropna().reset_index().drop_duplicates()
    words.columns = pd.Index(["number", "subject"])
    words = words[words["subject"].str.len() > 2]
    return pairs.assign(number=number).merge(words, on="number").drop(columns="number")


def season_share(section: pd.Series, season: pd.Series) -> pd.Series:
    """The factor of the season of each section; 1 where unknown."""
    return section.map(season).astype("float64").fillna(1.0)
