"""Notes on the data, to be read before any result: each with a code and a sentence."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any

import numpy as np
import pandas as pd

from nibbet.core.join.grain import step_of
from nibbet.core.join.reasons import DETAIL, INCOMPLETE, INCOMPLETE_MONTH, INCOMPLETE_PERIOD, OTHER_SURFACE
from nibbet.core.ledger import import_days, is_partial
from nibbet.core.windows import Window, missing_search_days

Note = dict[str, str]
#: sessions per click outside these limits suggest different counting; blockers and consent remove some sessions
USUAL_SESSIONS = (0.5, 1.3)
#: pages with this many clicks in the recent window should have visits
BUSY_CLICKS = 100


def notes(
    account: dict[str, Any],
    as_of: date,
    days: pd.DataFrame,
    pages: pd.DataFrame,
    addresses: pd.DataFrame,
    visits: pd.DataFrame,
    recent: Window,
    *,
    grains: Mapping[str, str] | None = None,
    is_set: bool = False,
    queries: Sequence[Window] = (),
) -> list[Note]:
    """The notes of the account, most consequential first: [{code, text}].

    Args:
        days: date, clicks, impressions of the site; visits: date, sessions, organic (sessions from search; null where channels are
            unknown), empty without landings; pages: the ledger; grains: file -> the grain of its search rows, page or pair; is_set: whether
            the settings give the last day; queries: see `core.windows.Windows`.
    """
    result = [
        _incomplete(account, as_of, grains or {}, is_set=is_set),
        *_more_than_all(account),
        *_capped(account),
        _windows_apart(days, visits),
        _sessions_per_click(days, visits, recent),
        _untagged(pages),
        _channels(visits),
        _shifted(days, visits),
        _other_hosts(account),
        _other_surfaces(account),
        _withheld(account, days, queries),
        _gaps(days),
        _strangers(pages),
        _imported(pages),
        _linked_throughout(pages),
        _merged(addresses),
    ]
    given: list[Note] = account["notes"]
    return [note for note in result if note] + given


def _note(code: str, text: str) -> Note:
    return {"code": code, "text": text}


def _aside(account: dict[str, Any], reason: str) -> list[tuple[str, dict[str, Any]]]:
    return [(one["kind"], gone) for one in account["sources"] for gone in one["set_aside"] if gone["reason"].startswith(reason)]


def _incomplete(account: dict[str, Any], as_of: date, grains: Mapping[str, str], *, is_set: bool) -> Note | None:
    def clicks(reason: str) -> float:
        of_grain: dict[str, float] = {}  # page rows and query rows count the same clicks
        for one in account["sources"]:
            for gone in one["set_aside"]:
                if gone["reason"] == reason:
                    grain = grains.get(one["file"], "")
                    of_grain[grain] = of_grain.get(grain, 0) + gone["measures"].get("clicks", 0)
        return max(of_grain.values(), default=0)

    why = "are left out, as asked" if is_set else "are not complete yet and left out"
    days = clicks(INCOMPLETE)
    texts = [f"Days after {as_of} {why}: {days:,} clicks."] if days else []
    for unit, count in (("month", clicks(INCOMPLETE_MONTH)), ("period", clicks(INCOMPLETE_PERIOD))):
        how = "is left out, as asked" if is_set else "is not complete yet; its rows are left out"
        texts += [f"The {unit} that ends after {as_of} {how}: {count:,} clicks."] if count else []
    return _note("partial_days", " ".join([*texts, f"Every window ends with {as_of}."])) if texts else None


#: counts of a part and of the whole
PARTS_OF = (("clicks", "impressions"), ("engaged_sessions", "sessions"), ("single_page_sessions", "sessions"))


def _more_than_all(account: dict[str, Any]) -> list[Note]:
    """Files in which a part counts more than its whole, as where two columns are exchanged."""
    read = [(one["file"], {name: sums["read"] for name, sums in one["measures"].items()}) for one in account["sources"]]
    rows = [(file, sums, part, whole) for file, sums in read for part, whole in PARTS_OF if sums.get(part, 0) > sums.get(whole, np.inf)]
    return [
        _note(
            "more_than_all",
            f"{file} counts {sums[part]:,} {part.replace('_', ' ')} of {sums[whole]:,} {whole}, which cannot be. If the columns are exchanged, "
            f'settle it in its [[source]]: columns = {{ {part} = "...", {whole} = "..." }}',
        )
        for file, sums, part, whole in rows
    ]


def _capped(account: dict[str, Any]) -> list[Note]:
    """Files with exactly a round number of rows, a sign of an export limit."""
    rows = [
        one
        for one in account["sources"]
        if one["kind"] in ("search", "landings") and one["rows_read"] >= 1000 and one["rows_read"] % 1000 == 0
    ]
    return [
        _note(
            "capped",
            f"{one['file']} holds exactly {one['rows_read']:,} rows, so the export was probably truncated. Export shorter periods.",
        )
        for one in rows
    ]


def _windows_apart(days: pd.DataFrame, visits: pd.DataFrame) -> Note | None:
    if visits.empty or days.empty:
        return None
    a, b = (days["date"].min(), days["date"].max()), (visits["date"].min(), visits["date"].max())
    if max(a[0], b[0]) <= min(a[1], b[1]) and abs((a[0] - b[0]).days) < 45 and abs((a[1] - b[1]).days) < 10:
        return None
    return _note(
        "windows",
        f"Search covers {a[0].date()} to {a[1].date()}, landings {b[0].date()} to {b[1].date()}: they are comparable only where they overlap.",
    )


def _both(days: pd.DataFrame, visits: pd.DataFrame) -> pd.DataFrame:
    return days.merge(visits.dropna(subset=["organic"]), on="date") if not visits.empty else days.head(0).assign(organic=0.0)


def _in_whole_periods(days: pd.DataFrame, visits: pd.DataFrame, recent: Window) -> pd.DataFrame:
    """Clicks and sessions in the days, or in the whole weeks or months of the visits, inside the recent window."""
    days = days[recent.holds(days["date"])]
    length = {"day": 1, "week": 7, "month": 31}[step_of(visits["date"])]
    if length == 1 or days.empty:
        return _both(days, visits)
    starts = pd.DatetimeIndex(np.sort(visits["date"].unique()))
    start = starts.take(np.maximum(starts.searchsorted(days["date"], side="right") - 1, 0))
    inside = pd.DatetimeIndex(days["date"]) - start
    within = days.assign(date=start)[(inside >= pd.Timedelta(0)) & (inside < pd.Timedelta(length, "D"))]
    sums = within.groupby("date", as_index=False).agg(clicks=("clicks", "sum"), days=("clicks", "size"))
    return _both(sums[sums["days"] >= min(length, 28)], visits)


def _sessions_per_click(days: pd.DataFrame, visits: pd.DataFrame, recent: Window) -> Note | None:
    both = _in_whole_periods(days, visits, recent)
    if both["clicks"].sum() < BUSY_CLICKS:
        return None
    ratio = both["organic"].sum() / both["clicks"].sum()
    if USUAL_SESSIONS[0] <= ratio <= USUAL_SESSIONS[1]:
        return None
    why = "not all visits are counted" if ratio < 1 else "the channel holds visits that are not from search"
    return _note(
        "sessions_per_click",
        f"{ratio:.2f} sessions from search per click in {recent}; {USUAL_SESSIONS[0]} to {USUAL_SESSIONS[1]} are usual: {why}.",
    )


def _untagged(pages: pd.DataFrame) -> Note | None:
    if not pages["sessions_known"].any():
        return None
    silent = pages[(pages["clicks"] >= BUSY_CLICKS) & (pages["sessions"] < 0.1 * pages["clicks"]) & pages["leads_to"].isna()]
    if silent.empty:
        return None
    first = silent.sort_values("clicks", ascending=False).iloc[0]
    return _note(
        "untagged",
        f"{len(silent)} pages have clicks but hardly a session, the largest {first['path']} ({first['clicks']:,} clicks): they may lack the tracking tag.",
    )


def _channels(visits: pd.DataFrame) -> Note | None:
    if visits.empty:
        return None
    if visits["organic"].isna().all():
        return _note("channels", "The landings have no channel, so sessions from search cannot be separated from others.")
    whole, organic = visits["sessions"].sum(), visits["organic"].sum()
    if organic >= whole:
        return None
    if whole and not organic:
        return _note(
            "channels",
            "No channel or medium of the landings says unpaid search, so that every page has 0 sessions from search. If one of them is, name it in "
            'its [[source]]: organic = ["..."].',
        )
    return _note(
        "channels",
        f"{whole - organic:,.0f} of {whole:,.0f} sessions come from other channels. Search is compared with organic sessions; sessions of all channels protect a page from removal.",
    )


def _shifted(days: pd.DataFrame, visits: pd.DataFrame) -> Note | None:
    """Whether the days of two sources correlate better with a day in between, a sign of different time zones."""
    both = _both(days, visits).sort_values("date")
    if len(both) < 60:
        return None
    clicks, sessions = (np.diff(np.log(both[name].to_numpy(dtype=float) + 1)) for name in ("clicks", "organic"))
    if not (clicks.std() > 0 and sessions.std() > 0):
        return None
    match = {lag: float(np.corrcoef(clicks[2:-2], np.roll(sessions, lag)[2:-2])[0, 1]) for lag in (-1, 0, 1)}
    best = max(match, key=lambda lag: match[lag])
    if best == 0 or match[best] < match[0] + 0.2:
        return None
    return _note(
        "time_zone",
        f"Clicks and sessions agree best if sessions are shifted by {best:+d} day: the sources use different time zones.",
    )


def _other_hosts(account: dict[str, Any]) -> Note | None:
    rows = [(kind, gone) for kind, gone in _aside(account, "other host") if kind in ("search", "landings", "crawl")]
    if not rows:
        return None
    names = sorted({gone["reason"].split(": ", 1)[1] for _, gone in rows})
    shown = ", ".join(names[:3]) + (" and others" if len(names) > 3 else "")
    return _note(
        "other_host",
        f"Rows of {shown} are set aside. If they are yours, name them in [site] of nibbet.toml: in hosts where they serve the same pages, in more_hosts where they have "
        "pages of their own, in old_hosts where the site has moved from there.",
    )


def _other_surfaces(account: dict[str, Any]) -> Note | None:
    rows = [gone for kind, gone in _aside(account, OTHER_SURFACE) if kind == "search"]
    if not rows:
        return None
    names = sorted({gone["reason"].split(": ", 1)[1] for gone in rows})
    clicks = sum(gone["measures"].get("clicks", 0) for gone in rows)
    listed = ", ".join(f'"{name}"' for name in names[:4])
    return _note(
        "other_surface",
        f"{clicks:,} clicks of other surfaces than web search ({', '.join(names[:4])}) are not added to those of pages; see nibbet split --by surface. "
        f'To add them: [site] surfaces = ["web", {listed}]',
    )


def _withheld(account: dict[str, Any], days: pd.DataFrame, queries: Sequence[Window]) -> Note | None:
    """The share of impressions without query, on the days that have any."""
    detail = sum(gone["measures"].get("impressions", 0) for _, gone in _aside(account, DETAIL))
    whole = sum(one["measures"].get("impressions", {}).get("ledger", 0) for one in account["sources"] if one["kind"] == "search")
    named = sum((one.holds(days["date"]) for one in queries), pd.Series(False, index=days.index)) > 0
    on_days = "" if not queries or named.all() else f" on the {int(named.sum()):,} days with queries"
    whole = int(days.loc[named, "impressions"].sum()) if on_days else whole
    if not detail or detail >= whole:
        return None
    return _note(
        "withheld",
        f"{1 - detail / whole:.0%} of impressions{on_days} have no query (withheld by the source). They count toward their pages and are rows without a query in queries.csv.",
    )


def _gaps(days: pd.DataFrame) -> Note | None:
    missing = missing_search_days(days)
    if missing.empty:
        return None
    return _note(
        "gaps",
        f"{len(missing)} days have no search rows, the first {missing[0].date()}. Export them; until then windows are compared by the days that "
        "they have, and sums that include the gap are too low.",
    )


def _strangers(pages: pd.DataFrame) -> Note | None:
    lone = pages["in_search"] & ~pages["in_crawl"] & (pages["clicks"] > 0) & pages["leads_to"].isna()  # old addresses need not be crawled
    if not pages["in_crawl"].any() or not lone.any():
        return None
    first = pages[lone].sort_values("clicks", ascending=False)["path"].iloc[0]
    part = " It holds only part of the site, so what it lacks is no repair." if is_partial(pages) else ""
    return _note(
        "not_in_crawl",
        f"{int(lone.sum())} pages with clicks are missing from the crawl, the largest {first}.{part} Start the crawl from the sitemap too.",
    )


def _imported(pages: pd.DataFrame) -> Note | None:
    """Dates of publication of an import."""
    days = import_days(pages)
    if days.empty:
        return None
    first, last = days.min().date(), days.max().date()
    when = f"on {first}" if first == last else f"on {len(days)} days from {first} to {last}"
    return _note(
        "imported",
        f"Most pages were in search long before their date of publication, {when}: pages were imported or dated anew. Pages of these days count "
        "as undated; give their dates in an editorial list.",
    )


def _linked_throughout(pages: pd.DataFrame) -> Note | None:
    count = int(pages["backlinks_throughout"].fillna(0).sum())
    if not count:
        return None
    return _note(
        "links_throughout",
        f"{count:,} backlink{'s' * (count > 1)} come{'s' * (count == 1)} from sites that link throughout this one, such as copies and lists of pages. "
        "They show of no page that it is needed.",
    )


def _merged(addresses: pd.DataFrame) -> Note | None:
    kept = addresses.dropna(subset=["page"])
    pages = kept["page"].nunique()
    if pages == len(kept):
        return None
    return _note("spellings", f"{len(kept):,} spellings stand for {pages:,} pages; addresses.csv gives the reason of each.")


def unmatched(pages: pd.DataFrame, *, most: int = 5) -> dict[str, list[dict[str, Any]]]:
    """The largest pages of one source that another lacks, both ways, over the long window.

    Returns:
        clicks_without_landings and sessions_without_search, each a list of {page, clicks or sessions}; empty where a source is missing.
    """
    out: dict[str, list[dict[str, Any]]] = {}
    for name, measure, known, other in (
        ("clicks_without_landings", "clicks_long", "in_search", "in_landings"),
        ("sessions_without_search", "sessions_long", "in_landings", "in_search"),
    ):
        both = pages[other].any() and pages["sessions_known"].any()
        rows = pages[pages[known] & ~pages[other] & (pages[measure].fillna(0) > 0)] if both else pages.head(0)
        rows = rows.sort_values([measure, "page"], ascending=[False, True]).head(most)
        out[name] = [
            {"page": page, measure.removesuffix("_long"): int(count)} for page, count in zip(rows["page"], rows[measure], strict=True)
        ]
    return out
