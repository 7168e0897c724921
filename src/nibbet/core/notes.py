"""What an analyst should know about the data before reading any result: notes with a code and a sentence."""

from __future__ import annotations

from datetime import date
from typing import Any

import pandas as pd

from nibbet.core.join import INCOMPLETE


def notes(account: dict[str, Any], as_of: date, days: pd.DataFrame, pages: pd.DataFrame, addresses: pd.DataFrame) -> list[dict[str, str]]:
    """The notes of the account, most consequential first: [{code, text}]."""
    found = [_incomplete(account, as_of), _other_hosts(account), _withheld(account), _gaps(days), _strangers(pages), _merged(addresses)]
    said: list[dict[str, str]] = account["notes"]
    return [note for note in found if note] + said


def _aside(account: dict[str, Any], reason: str) -> list[tuple[str, dict[str, Any]]]:
    return [(one["kind"], gone) for one in account["sources"] for gone in one["set_aside"] if gone["reason"].startswith(reason)]


def _incomplete(account: dict[str, Any], as_of: date) -> dict[str, str] | None:
    rows = _aside(account, INCOMPLETE)
    if not rows:
        return None
    clicks = sum(gone["measures"].get("clicks", 0) for _, gone in rows)
    return {
        "code": "partial_days",
        "text": f"Days after {as_of} are not complete yet: {clicks:,} clicks on them are set aside, and every window ends with {as_of}.",
    }


def _other_hosts(account: dict[str, Any]) -> dict[str, str] | None:
    rows = _aside(account, "other host")
    if not rows:
        return None
    names = sorted({gone["reason"].split(": ", 1)[1] for _, gone in rows})
    return {
        "code": "other_host",
        "text": f"Rows of {', '.join(names[:3])}{' and others' if len(names) > 3 else ''} are set aside. If they serve the same pages, add them to hosts in nibbet.toml.",
    }


def _withheld(account: dict[str, Any]) -> dict[str, str] | None:
    detail = sum(gone["measures"].get("impressions", 0) for _, gone in _aside(account, "detail of page rows"))
    whole = sum(one["measures"].get("impressions", {}).get("ledger", 0) for one in account["sources"] if one["kind"] == "search")
    if not detail or detail >= whole:
        return None
    return {
        "code": "withheld",
        "text": f"{1 - detail / whole:.0%} of impressions come without their query. They count for their pages, and stand as rows without a query in queries.csv.",
    }


def _gaps(days: pd.DataFrame) -> dict[str, str] | None:
    if days.empty:
        return None
    missing = pd.date_range(days["date"].min(), days["date"].max()).difference(pd.DatetimeIndex(days["date"]))
    if missing.empty:
        return None
    return {
        "code": "gaps",
        "text": f"{len(missing)} days without any search row, the first {missing[0].date()}. Export them, or windows over them read low.",
    }


def _strangers(pages: pd.DataFrame) -> dict[str, str] | None:
    lone = pages["in_search"] & ~pages["in_crawl"] & (pages["clicks"] > 0)
    if not pages["in_crawl"].any() or not lone.any():
        return None
    first = pages[lone].sort_values("clicks", ascending=False)["path"].iloc[0]
    return {
        "code": "not_in_crawl",
        "text": f"{int(lone.sum())} pages with clicks are missing from the crawl, the largest {first}: orphans, or a crawl that stopped early.",
    }


def _merged(addresses: pd.DataFrame) -> dict[str, str] | None:
    per_page = addresses.dropna(subset=["page"]).groupby("page").size()
    if not (per_page > 1).any():
        return None
    return {
        "code": "spellings",
        "text": f"{len(addresses.dropna(subset=['page'])):,} spellings stand for {len(per_page):,} pages; addresses.csv gives the reason of each.",
    }
