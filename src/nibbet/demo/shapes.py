"""Other shapes of the exports of a demo world: by month, undated, two windows side by side, copied from screens, responses of a service."""

from __future__ import annotations

import json
import re
import shutil
import zipfile
from datetime import date, timedelta
from pathlib import Path

import pandas as pd

from nibbet.demo.builder import LAST_COMPLETE_DAY

SHAPES = ("daily", "monthly", "undated", "sidebyside", "screens", "service", "pages", "short")
#: most rows of a table on a screen, and of one response of a service
SCREEN_ROWS, ANSWER_ROWS = 1_000, 5_000
RECENT = (LAST_COMPLETE_DAY - timedelta(days=89), LAST_COMPLETE_DAY)
YEAR_BEFORE = (RECENT[0].replace(year=RECENT[0].year - 1), RECENT[1].replace(year=RECENT[1].year - 1))
WHOLE_YEAR = (LAST_COMPLETE_DAY - timedelta(days=364), LAST_COMPLETE_DAY)
SHORT_DAYS = 56
Days = tuple[date, date]
SUMS = ["clicks", "impressions", "places"]


def reshape(folder: Path, shape: str) -> None:
    """Rewrite the search and visits files of a daily demo workspace in another shape, with their settings."""
    if shape == "daily":
        return
    pages, pairs, visits = daily_pages(folder), daily_pairs(folder), _daily_visits(folder)
    for part in ("search", "visits"):
        shutil.rmtree(folder / part)
        (folder / part).mkdir()
    {
        "monthly": _monthly,
        "undated": _undated,
        "sidebyside": _side_by_side,
        "screens": _screens,
        "service": _service,
        "pages": _pages_alone,
        "short": _short,
    }[shape](folder, pages, pairs, visits)
    settings = (folder / "nibbet.toml").read_text("utf-8")
    settings = settings.replace('files = "search/*.csv.gz"', 'files = "search/*"').replace('files = "visits/*.csv"', 'files = "visits/*"')
    if shape == "short":
        settings = settings.replace('[[source]]\nkind = "demand"\nfiles = "searches.csv"\n\n', "")
    (folder / "nibbet.toml").write_text(settings, "utf-8")


# -- daily files --------------------------------------------------------------------------------------------------------------------------


def daily_pages(folder: Path) -> pd.DataFrame:
    """date, page, device, country, clicks, impressions, position, places of the page rows of a daily workspace."""
    rows = pd.concat([pd.read_csv(path) for path in sorted((folder / "search").glob("pages-*"))])
    rows = rows.set_axis(["date", "page", "device", "country", "clicks", "impressions", "position"], axis=1)
    return rows.assign(date=pd.to_datetime(rows["date"]).dt.date, places=rows["position"] * rows["impressions"])


def daily_pairs(folder: Path) -> pd.DataFrame:
    """date, query, page, device, country, clicks, impressions, position, places of its query rows."""
    rows = pd.concat([pd.read_csv(path, sep=";", decimal=",") for path in sorted((folder / "search").glob("queries-*"))])
    rows = rows.set_axis(["date", "query", "page", "device", "country", "clicks", "impressions", "position"], axis=1)
    return rows.assign(date=pd.to_datetime(rows["date"], format="%d.%m.%Y").dt.date, places=rows["position"] * rows["impressions"])


def _daily_visits(folder: Path) -> pd.DataFrame:
    rows = pd.read_csv(folder / "visits" / "landing-pages.csv", sep=";", skiprows=3, decimal=",", encoding="utf-8-sig").dropna(
        subset=["Datum", "Einstiegsseite"]
    )
    rows.columns = ["date", "page", "channel", "country", "source", "sessions", "engaged", "seconds", "conversions", "revenue"]
    return rows.assign(date=pd.to_datetime(rows["date"], format="%d.%m.%Y").dt.date)


def within(rows: pd.DataFrame, days: Days) -> pd.DataFrame:
    """The rows of some days."""
    return rows[(rows["date"] >= days[0]) & (rows["date"] <= days[1])]


def _search(rows: pd.DataFrame, by: list[str]) -> pd.DataFrame:
    sums = rows.groupby(by, as_index=False)[SUMS].sum()
    ctr = (100 * sums["clicks"] / sums["impressions"]).map("{:.2f}%".format)
    return (
        sums.assign(ctr=ctr, place=(sums["places"] / sums["impressions"]).round(2))
        .drop(columns="places")
        .sort_values(["clicks", "impressions", *by], ascending=[False, False] + [True] * len(by))
    )


HEADS = {
    "date": "Month",
    "page": "Page",
    "query": "Query",
    "device": "Device",
    "clicks": "Clicks",
    "impressions": "Impressions",
    "ctr": "CTR",
    "place": "Avg. position",
}


def _visits(rows: pd.DataFrame, by: list[str]) -> pd.DataFrame:
    sums = rows.groupby(by, as_index=False)[["sessions", "engaged", "seconds", "conversions", "revenue"]].sum()
    medium = {"Organische Suche": "anyfinder / organic", "Direkt": "(direct) / (none)", "E-Mail": "letter / email", "Soziale Netze": "chatter / social", "Verweis": "paddlers.example / referral", "Bezahlte Suche": "anyfinder / paid"}  # fmt: skip
    sums["channel"] = sums["channel"].map(medium)
    heads = {"date": "Month", "page": "Landing page", "channel": "Source / medium", "sessions": "Sessions", "engaged": "Engaged sessions", "seconds": "Seconds", "conversions": "Goal completions", "revenue": "Revenue"}  # fmt: skip
    return sums.rename(columns=heads)


def _name(what: str, days: Days) -> str:
    return f"{what} {days[0]} {days[1]}.csv"


def _write_visits(folder: Path, visits: pd.DataFrame, windows: list[Days]) -> None:
    for days in windows:
        _visits(within(visits, days), ["page", "channel"]).to_csv(folder / "visits" / _name("landing pages", days), index=False)


# -- shapes --------------------------------------------------------------------------------------------------------------------------------


def _monthly(folder: Path, pages: pd.DataFrame, pairs: pd.DataFrame, visits: pd.DataFrame) -> None:
    """Rows by month: a file of pages, one of queries by page, one of visits."""
    month = [frame.assign(date=pd.to_datetime(frame["date"]).dt.strftime("%m/%Y")) for frame in (pages, pairs, visits)]
    _search(month[0], ["date", "page"]).rename(columns=HEADS).to_csv(folder / "search" / "pages.csv", index=False)
    _search(month[1], ["date", "page", "query"]).rename(columns=HEADS).to_csv(folder / "search" / "queries.csv", index=False)
    _visits(month[2], ["date", "page", "channel"]).to_csv(folder / "visits" / "visits.csv", index=False)


def _undated(folder: Path, _pages: pd.DataFrame, pairs: pd.DataFrame, visits: pd.DataFrame) -> None:
    """Queries by page without dates, in three windows that are given in the names of the files."""
    for days in (RECENT, YEAR_BEFORE, WHOLE_YEAR):
        table = _search(within(pairs, days), ["page", "query"]).rename(columns=HEADS)
        table.to_csv(folder / "search" / _name("pages and queries", days), index=False)
    _write_visits(folder, visits, [RECENT, WHOLE_YEAR])


def _side_by_side(folder: Path, pages: pd.DataFrame, pairs: pd.DataFrame, visits: pd.DataFrame) -> None:
    """Two windows side by side, each with its measures, for pages and for queries by page; also a table of pages for the whole year."""
    for name, rows, by in (("pages", pages, ["page"]), ("queries", pairs, ["page", "query"])):
        _beside(rows, by).to_csv(folder / "search" / f"{name}.csv", index=False)
    year = _search(within(pages, WHOLE_YEAR), ["page"]).rename(columns=HEADS)
    year.to_csv(folder / "search" / _name("pages", WHOLE_YEAR), index=False)
    _write_visits(folder, visits, [RECENT, WHOLE_YEAR])


def _beside(rows: pd.DataFrame, by: list[str]) -> pd.DataFrame:
    """The recent window and the window a year earlier, side by side."""
    both = [
        _search(within(rows, days), by).rename(
            columns={name: f"{days[0]} - {days[1]} {HEADS[name]}" for name in ("clicks", "impressions", "ctr", "place")}
        )
        for days in (RECENT, YEAR_BEFORE)
    ]
    table = both[0].merge(both[1], on=by, how="outer").rename(columns=HEADS)
    return table.sort_values(list(table.columns[len(by) : len(by) + 2]), ascending=False, kind="stable")


def _screens(folder: Path, pages: pd.DataFrame, pairs: pd.DataFrame, visits: pd.DataFrame) -> None:
    """An archive with a table for each dimension, two windows side by side, at most 1,000 rows each; a table of settings has the dates of both
    windows.
    """
    queries = pairs.drop(columns="page")
    tables = {
        "Pages": _beside(pages, ["page"]).head(SCREEN_ROWS),
        "Queries": _beside(queries, ["query"]).head(SCREEN_ROWS),
        "Devices": _beside(pages, ["device"]),
    }
    with zipfile.ZipFile(folder / "search" / "screens.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        for name, table in tables.items():
            info = zipfile.ZipInfo(f"{name}.csv", (2026, 11, 4, 0, 0, 0))
            archive.writestr(info, table.to_csv(index=False))
        archive.writestr(zipfile.ZipInfo("Filters.csv", (2026, 11, 4, 0, 0, 0)), "Filter,Value\nSearch type,Web\nShown,Compared windows\n")
    _write_visits(folder, visits, [RECENT, WHOLE_YEAR])


def _service(folder: Path, pages: pd.DataFrame, pairs: pd.DataFrame, visits: pd.DataFrame) -> None:
    """Responses of a service in pages: rows with a list of unnamed keys, one folder of pages for each request."""
    for days in (RECENT, YEAR_BEFORE, WHOLE_YEAR):
        for name, rows, by in (("pages", pages, ["page"]), ("pairs", pairs, ["page", "query"])):
            table = _search(within(rows, days), by)
            for number, start in enumerate(range(0, len(table), ANSWER_ROWS), 1):
                part = table.iloc[start : start + ANSWER_ROWS]
                keys = part[by].to_numpy().tolist()
                figures = zip(part["clicks"].tolist(), part["impressions"].tolist(), part["place"].tolist(), strict=True)
                answer = [
                    {"keys": key, "clicks": c, "impressions": i, "ctr": c / i, "position": p}
                    for key, (c, i, p) in zip(keys, figures, strict=True)
                ]
                path = folder / "search" / f"{name} {days[0]} {days[1]} page{number}.json"
                path.write_text(json.dumps({"rows": answer}, ensure_ascii=False), "utf-8")
    for days in (RECENT, WHOLE_YEAR):
        table = _visits(within(visits, days), ["page", "channel"])
        words = [re.sub(r"\W+(\w)", lambda m: m[1].upper(), name.lower()) for name in table.columns]
        head = {
            "dimensionHeaders": [{"name": name} for name in ("landingPage", "sourceMedium")],
            "metricHeaders": [{"name": name, "type": "number"} for name in words[2:]],
        }
        result = [
            {"dimensionValues": [{"value": str(v)} for v in row[:2]], "metricValues": [{"value": str(v)} for v in row[2:]]}
            for row in table.to_numpy().tolist()
        ]
        (folder / "visits" / f"visits {days[0]} {days[1]}.json").write_text(
            json.dumps({**head, "rows": result}, ensure_ascii=False), "utf-8"
        )


def _pages_alone(folder: Path, pages: pd.DataFrame, _pairs: pd.DataFrame, visits: pd.DataFrame) -> None:
    """Totals of pages without days or queries, in three windows."""
    for days in (RECENT, YEAR_BEFORE, WHOLE_YEAR):
        _search(within(pages, days), ["page"]).rename(columns=HEADS).to_csv(folder / "search" / _name("pages", days), index=False)
    _write_visits(folder, visits, [RECENT, WHOLE_YEAR])


def _short(folder: Path, pages: pd.DataFrame, pairs: pd.DataFrame, visits: pd.DataFrame) -> None:
    """The last 56 days, day by day."""
    days = (LAST_COMPLETE_DAY - timedelta(days=SHORT_DAYS - 1), LAST_COMPLETE_DAY)
    for name, rows, by in (("pages", pages, ["date", "page"]), ("queries", pairs, ["date", "page", "query"])):
        _search(within(rows, days), by).rename(columns={**HEADS, "date": "Date"}).to_csv(folder / "search" / f"{name}.csv", index=False)
    _visits(within(visits, days), ["date", "page", "channel"]).rename(columns={"Month": "Date"}).to_csv(
        folder / "visits" / "visits.csv", index=False
    )
