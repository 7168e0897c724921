"""Days told in other columns than one: year and month apart, first and last day, quarters, months as spreadsheets show them."""

from __future__ import annotations

from datetime import date
from pathlib import Path

import pandas as pd
import pytest

import nibbet
from nibbet.cli.init import write_settings
from nibbet.errors import SourceError
from nibbet.sources.conventions import days_of_text
from nibbet.sources.periods import full_years, span_of

DAYS = pd.Series(pd.date_range("2025-07-01", "2026-10-31"))
ROWS = pd.concat(
    pd.DataFrame({"day": DAYS, "Page": f"https://tarnbrook.example/{name}/", "Clicks": count + DAYS.dt.day % 3, "Impressions": 90})
    for name, count in (("canoe", 2), ("raft", 5), ("kayak", 1))
)
MONTHS = "Januar Februar März April Mai Juni Juli August September Oktober November Dezember".split()
DAY = ROWS["day"].dt
MONDAY = ROWS["day"] - pd.to_timedelta(DAY.day_of_week, unit="D")
LATE = DAY.strftime("%Y-%m") >= "2026-08"


def clicks(first: str, last: str) -> int:
    return int(ROWS.loc[ROWS["day"].between(first, last), "Clicks"].sum())


def ends(form: str) -> dict[str, pd.Series]:
    """First and last day of two quarters; the rows before them tell one long period."""
    first = pd.Series(pd.Timestamp("2025-07-01"), ROWS.index).where(~LATE, pd.Timestamp("2026-08-01"))
    last = pd.Series(pd.Timestamp("2026-07-31"), ROWS.index).where(~LATE, pd.Timestamp("2026-10-31"))
    return {"first": first.dt.strftime(form), "last": last.dt.strftime(form)}


#: by name, the columns that tell the days, and the recent window that they give
TOLD: dict[str, tuple[dict[str, pd.Series], str]] = {
    "year and month": ({"Year": DAY.year, "Month": DAY.month}, "2026-08-01..2026-10-31"),
    "a name of a month": ({"Jahr": DAY.year, "Monat": DAY.month.map(lambda m: MONTHS[m - 1])}, "2026-08-01..2026-10-31"),
    "year, month, day": ({"Year": DAY.year, "Month": DAY.month, "Day": DAY.day}, "2026-08-03..2026-10-31"),
    "year and week": (
        {"Année": DAY.isocalendar().year.astype(int), "Semaine": DAY.isocalendar().week.astype(int)},
        "2026-08-03..2026-11-01",
    ),
    "a month as a spreadsheet shows it": ({"Month": DAY.strftime("%b-%y")}, "2026-08-01..2026-10-31"),
    "first and last day": ({"From": ends("%Y-%m-%d")["first"], "To": ends("%Y-%m-%d")["last"]}, "2026-08-01..2026-10-31"),
    "day first": ({"Von": ends("%d/%m/%Y")["first"], "Bis": ends("%d/%m/%Y")["last"]}, "2026-08-01..2026-10-31"),
    "in one cell": ({"Period": ends("%Y-%m-%d")["first"] + " to " + ends("%Y-%m-%d")["last"]}, "2026-08-01..2026-10-31"),
    "first and last day of weeks": (
        {"Week start": MONDAY.dt.strftime("%Y-%m-%d"), "Week end": (MONDAY + pd.Timedelta(days=6)).dt.strftime("%Y-%m-%d")},
        "2026-08-03..2026-11-01",
    ),
    "quarters": ({"Quarter": "Q" + DAY.quarter.astype(str) + " " + DAY.year.astype(str)}, "2026-07-01..2026-09-30"),
    "year and quarter": ({"Year": DAY.year, "Quarter": DAY.quarter}, "2026-07-01..2026-09-30"),
}


@pytest.mark.parametrize("name", TOLD)
def test_days_told_in_other_columns_give_the_same_clicks_and_whole_windows(name: str, tmp_path: Path) -> None:
    columns, recent = TOLD[name]
    table = ROWS.assign(**columns).groupby([*columns, "Page"], as_index=False, sort=False)[["Clicks", "Impressions"]].sum()
    total = pd.DataFrame({"Page": ["Total"], "Clicks": [table["Clicks"].sum()], "Impressions": [0]})
    pd.concat([table, total]).to_csv(tmp_path / "search.csv", index=False)  # the row of totals makes 2026 a 2026.0
    write_settings(tmp_path, None, force=False)
    with nibbet.open_site(tmp_path) as site:
        windows, ledger = site.windows, site.ledger()
        sources = pd.DataFrame(site.account["sources"])
    assert str(windows.recent) == recent
    assert ledger["clicks"].sum() == clicks(*recent.split(".."))
    assert sources["rows_read"].sum() == len(table) + 1
    aside = pd.DataFrame([gone for gones in sources["set_aside"] for gone in gones]).set_index("reason")["rows"]
    begun = int((table[[*columns]].astype(str).agg(" ".join, axis=1).isin({"Q4 2026", "2026 4"})).sum()) if "uarter" in str(columns) else 0
    assert aside.to_dict() == {"total row": 1} | ({"incomplete period": begun} if begun else {}), "a quarter that has only begun is none"


def test_a_rolling_sum_is_refused_and_a_word_for_a_window_is_named(tmp_path: Path) -> None:
    table = ROWS.assign(Period=(ROWS["day"] - pd.Timedelta(days=27)).dt.strftime("%Y-%m-%d") + ".." + DAY.strftime("%Y-%m-%d"))
    for rows, says in (
        (table, "periods, which are no windows"),
        (table.assign(Period="Previous period"), '"Previous period", which tells no days'),
    ):
        rows.drop(columns="day").to_csv(tmp_path / "search.csv", index=False)
        write_settings(tmp_path, "https://tarnbrook.example/", force=True)
        with nibbet.open_site(tmp_path) as site, pytest.raises(SourceError, match=says):
            _ = site.windows


def test_a_cell_tells_several_days_only_if_nothing_else_stands_in_it() -> None:
    assert span_of("H1 2026") == (date(2026, 1, 1), date(2026, 6, 30))
    assert span_of("May 2026 - Jul 2026") == (date(2026, 5, 1), date(2026, 7, 31))
    assert [span_of(text) for text in ("best canoes of Q3 2026", "2026-08-03", "Q3", "2019 and 2026")] == [None] * 4
    both = days_of_text(["03/08/2026..05/08/2026", "13/08/2026..14/08/2026", "x..y", "09/08/2026..01/08/2026"], where="", header="")
    assert both["03/08/2026..05/08/2026"] == (date(2026, 8, 3), date(2026, 8, 5)), "one convention for both ends"
    assert len(both) == 2, "an end before its start is no period"


def test_short_years_are_years_where_several_months_share_them() -> None:
    assert full_years(["Page", "clicks Jul-26", "Clicks Aug '26"]) == ["Page", "clicks Jul 2026", "Clicks Aug 2026"]
    assert full_years(["Page", "Jul-26", "Jul-27", "Jul-28"])[1] == "Jul-26", "days of one month"
    assert days_of_text(["Jul 26", "Jul 27", "Jul 28"], where="", header="") == {}
    assert days_of_text(["Jul 26", "Aug 26"], where="", header="")["Aug 26"][0] == date(2026, 8, 1)
