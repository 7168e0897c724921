"""Tables as people hold them: undated, side by side, packed, by query alone, in other words; each gives what it can, or one message."""

from __future__ import annotations

import json
import os
import shutil
import zipfile
from collections.abc import Callable
from datetime import date, timedelta
from pathlib import Path
from random import Random

import ibis
import pandas as pd
import pytest
import xlsxwriter
from hypothesis import given, settings
from hypothesis import strategies as st

import nibbet
from nibbet.cli.init import write_settings
from nibbet.cli.main import main
from nibbet.config import make_config
from nibbet.core.balanced import any_of, stacked
from nibbet.demo.shapes import daily_pages, daily_pairs, reshape, within
from nibbet.errors import SourceError
from nibbet.sources.conventions import day_of_text
from nibbet.sources.guess import guess_kind
from nibbet.sources.headers import blocks
from nibbet.sources.periods import period_in, period_of_lines, period_of_name, without_period
from nibbet.sources.profile import is_date
from nibbet.sources.sheets import table_of_rows
from nibbet.sources.side_by_side import windows_apart
from nibbet.tables import TABLES
from score import against_truth, costly, macro_f1

HOME = "https://tarnbrook.example/"
RECENT, BEFORE, YEAR = (
    (date(2026, 8, 3), date(2026, 10, 31)),
    (date(2025, 8, 3), date(2025, 10, 31)),
    (date(2025, 11, 1), date(2026, 10, 31)),
)
PAGES = ("/", "/rivers/elver", "/rivers/tarn", "/kit/dry-bag", "/kit/paddle")


def daily() -> pd.DataFrame:
    r = Random(3)
    rows = []
    for back in range(455):
        for page in PAGES:
            for query in (page.strip("/").replace("/", " ") or "tarnbrook", f"{page[-4:]} map"):
                shown = r.randint(5, 50)
                rows.append(
                    (date(2026, 10, 31) - timedelta(back), page, query, r.randint(0, shown // 6), shown, round(r.uniform(1.5, 9), 2))
                )
    return pd.DataFrame(rows, columns=["date", "page", "query", "clicks", "impressions", "position"])


DAILY = daily()


def of(days: tuple[date, date], *by: str) -> pd.DataFrame:
    """The sums of some days, headed as people head them."""
    rows = DAILY[(DAILY["date"] >= days[0]) & (DAILY["date"] <= days[1])]
    rows = rows.assign(position=rows["position"] * rows["impressions"])
    sums = rows.groupby(list(by), as_index=False)[["clicks", "impressions", "position"]].sum()
    sums["position"] = (sums["position"] / sums["impressions"]).round(2)
    return sums.rename(columns=str.capitalize)


def clicks(days: tuple[date, date]) -> int:
    return int(of(days, "page")["Clicks"].sum())


def laid(folder: Path, **tables: pd.DataFrame) -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    for name, table in tables.items():
        table.to_csv(folder / f"{name.replace('__', ' ')}.csv", index=False)
    return folder


def opened(folder: Path, files: str = "*.csv", *more: dict[str, object], **source: object) -> nibbet.Site:
    sources = [{"kind": "search", "files": files, **source}, *more]
    return nibbet.Site(config=make_config({"site": {"home": HOME}, "source": sources}), root=folder)


def fates(site: nibbet.Site) -> dict[str, int]:
    return {gone["reason"]: gone["measures"].get("clicks", gone["rows"]) for one in site.account["sources"] for gone in one["set_aside"]}


def notes(site: nibbet.Site) -> dict[str, str]:
    return {note["code"]: note["text"] for note in site.account["notes"]}


# -- days of a table -----------------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("text", "first", "last"), [
    ("pages 2026-08-03 2026-10-31.csv", "2026-08-03", "2026-10-31"), ("3.8.2026 bis 31.10.2026", "2026-08-03", "2026-10-31"),
    ("Aug 3, 2026 – Oct 31, 2026", "2026-08-03", "2026-10-31"), ("8/3/26 - 10/31/26 Clicks", "2026-08-03", "2026-10-31"),
    ("3 août 2026 au 31 octobre 2026", "2026-08-03", "2026-10-31"), ("20260803-20261031", "2026-08-03", "2026-10-31"),
    ("März 2026", "2026-03-01", "2026-03-31"), ("2026-02", "2026-02-01", "2026-02-28"), ("2026-08 to 2026-10", "2026-08-01", "2026-10-31"),
    ("Q3 2026", "2026-07-01", "2026-09-30"), ("2026-10-31", None, None), ("top 10 of 2026", None, None), ("01/02/2026 - 03/04/2026", None, None),
    ("2026-10-31 to 2026-08-03", None, None), ("H1-1", None, None),
])  # fmt: skip
def test_the_period_that_a_text_names(text: str, first: str | None, last: str | None) -> None:
    wanted = None if first is None or last is None else (date.fromisoformat(first), date.fromisoformat(last))
    assert period_in(text) == wanted


def test_periods_of_preambles_and_names() -> None:
    both = (date(2026, 8, 3), date(2026, 10, 31))
    assert period_of_lines(["# Start date: 2026-08-03", "# End date: 2026-10-31", "# exported 2026-11-02"]) == both
    assert period_of_lines(["Von: 03.08.2026", "Bis: 31.10.2026"]) == both
    assert period_of_lines(["made 2026-11-02", "by hand"]) is None
    assert period_of_name("2025-10/exports/pages.csv") == (date(2025, 10, 1), date(2025, 10, 31)), (
        "the folder tells where the file does not"
    )
    assert without_period("Clicks (2026-08-03 - 2026-10-31)") == "Clicks"


def test_three_undated_windows_serve_each_its_own_and_add_up_once(tmp_path: Path) -> None:
    tables = {f"pairs {a} {b}": of((a, b), "page", "query") for a, b in (RECENT, BEFORE, YEAR)}
    with_site = opened(laid(tmp_path, **tables))
    pages, windows = with_site.pages(), with_site.windows
    assert (str(windows.recent), str(windows.reference), str(windows.long)) == tuple("..".join(map(str, w)) for w in (RECENT, BEFORE, YEAR))
    assert windows.reference_kind == "year"
    sums = [int(pages[name].sum()) for name in ("clicks", "clicks_reference", "clicks_long")]
    assert sums == [clicks(RECENT), clicks(BEFORE), clicks(YEAR)]
    assert pages["change"].notna().all(), "two periods tell a change"
    assert fates(with_site)["part of a longer period"] == clicks(RECENT), "the inner period is not added to the year"
    ledger = sum(one["measures"]["clicks"]["ledger"] for one in with_site.account["sources"])
    assert ledger == clicks(YEAR) + clicks(BEFORE)
    assert "part of" not in str(with_site.pages()["because"].tolist())
    with_site.close()


@settings(max_examples=8, deadline=None)
@given(st.integers(0, 2**20), st.sampled_from(["month", "pairs", "copies", "order"]))
@pytest.mark.slow
def test_any_split_into_periods_orders_and_copies_gives_equal_totals(tmp_path_factory: pytest.TempPathFactory, seed: int, how: str) -> None:
    r, folder = Random(seed), tmp_path_factory.mktemp("split")
    months = [(date(2026, m, 1), (date(2026, m + 1, 1) if m < 12 else date(2027, 1, 1)) - timedelta(1)) for m in (8, 9, 10)]
    spans = months if how == "month" else [(months[0][0], months[-1][1])]
    for number, span in enumerate(spans):
        table = of(span, "page", "query").sample(frac=1, random_state=seed % 1000)
        cut = r.randint(1, len(table) - 1) if how == "pairs" else len(table)
        for part, rows in enumerate([table.iloc[:cut], table.iloc[cut:]]):
            if len(rows):
                names = list(rows.columns)
                r.shuffle(names)
                laid(folder, **{f"t{number}{part} {span[0]} {span[1]}": rows[names]})
    if how == "copies":
        for path in list(folder.glob("*.csv")):
            (folder / f"copy of {path.name}").write_bytes(path.read_bytes())
    site = opened(folder)
    assert int(site.ledger()["clicks"].sum()) == clicks((months[0][0], months[-1][1]))
    assert str(site.windows.recent) == "2026-08-01..2026-10-31"
    site.close()


@pytest.mark.parametrize("heads", [
    ("{0} {1} - {2}", "{0} {1} - {2}"), ("{0} ({1} to {2})", "{0} ({1} to {2})"), ("{0}", "{0} (previous year)"), ("Current {0}", "Last year {0}"),
])  # fmt: skip
def test_windows_side_by_side_are_two(tmp_path: Path, heads: tuple[str, str]) -> None:
    both = [
        of(days, "page").rename(columns={name: head.format(name, *days) for name in ("Clicks", "Impressions", "Position")})
        for head, days in zip(heads, (RECENT, BEFORE), strict=True)
    ]
    table = both[0].merge(both[1], on="Page").assign(**{"Clicks difference": 0})
    site = opened(laid(tmp_path, **{f"pages {RECENT[0]} {RECENT[1]}": table}))
    pages = site.ledger()
    assert (int(pages["clicks"].sum()), int(pages["clicks_reference"].sum())) == (clicks(RECENT), clicks(BEFORE))
    site.close()


def test_two_rows_of_headers_and_columns_that_are_no_windows(tmp_path: Path) -> None:
    one, other = of(RECENT, "page"), of(BEFORE, "page")
    head = f",{RECENT[0]} - {RECENT[1]},,{BEFORE[0]} - {BEFORE[1]},\nPage,Clicks,Impressions,Clicks,Impressions\n"
    rows = "".join(
        f"{p},{a},{b},{c},{d}\n"
        for p, a, b, c, d in zip(one["Page"], one["Clicks"], one["Impressions"], other["Clicks"], other["Impressions"], strict=True)
    )
    (tmp_path / "both.csv").write_text(head + rows)
    site = opened(tmp_path)
    assert int(site.ledger()["clicks_reference"].sum()) == clicks(BEFORE)
    site.close()
    ads = table_of_rows("t", ["Page", "Clicks", "Clicks from ads", "Impressions"], [["/a/", "1", "2", "9"]] * 4, "")
    assert windows_apart(ads, "search") == [ads], "another measure is no window"


@pytest.mark.parametrize("rows", [1, 2])
def test_a_set_of_columns_for_each_month_is_read_to_the_click(tmp_path: Path, rows: int) -> None:
    months = DAILY.assign(month=pd.to_datetime(DAILY["date"]).dt.to_period("M")).query("month >= '2025-08'")
    wide = (
        months.pivot_table(index="page", columns="month", values=["clicks", "impressions"], aggfunc="sum")
        .swaplevel(axis=1)
        .sort_index(axis=1)
    )
    heads = [[f"{month:%b %Y}" for month, _ in wide.columns], [measure.title() for _, measure in wide.columns]]
    lines = [["", *heads[0]], ["Page", *heads[1]]] if rows == 2 else [["Page", *(f"{a} {b}" for a, b in zip(*heads[::-1], strict=True))]]
    lines += [[page, *map(str, row)] for page, row in zip(wide.index, wide.to_numpy(), strict=True)]
    (tmp_path / "wide.csv").write_text("\n".join(map(",".join, lines)))
    with opened(tmp_path) as site:
        change = site.compare(by="site").iloc[0]
        assert str(site.windows.recent) == "2026-08-01..2026-10-31"
        assert change["recent"] == months.loc[months["month"].between("2026-08", "2026-10"), "clicks"].sum()


def test_months_of_nothing_named_are_told_so(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    laid(tmp_path, kept=pd.DataFrame([["/a/", 3, 4, 5]], columns=["Page", "Aug 2026", "Sep 2026", "Oct 2026"]))
    assert main(["init", str(tmp_path), "--home", HOME]) == 2
    assert "a column for each of 3 periods (Aug 2026 to Oct 2026)" in capsys.readouterr().err


def test_what_nothing_dates_is_asked_for_and_answered(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    folder = laid(tmp_path / "site", pages=of(RECENT, "page").assign(Page=HOME[:-1] + of(RECENT, "page")["Page"]))
    assert main(["run", str(folder), "-q"]) == 2
    said = capsys.readouterr()
    assert "NOT KNOWN" in said.out
    assert "period = [2026-08-03, 2026-10-31]" in said.err
    settings_ = (folder / "nibbet.toml").read_text()
    assert "# not known: period" in settings_
    (folder / "nibbet.toml").write_text(settings_.replace("# not known: period", "period"))
    assert main(["run", str(folder), "-q"]) == 0
    assert pd.read_csv(folder / "out" / "pages.csv")["clicks"].sum() == clicks(RECENT)


def test_months_make_windows_of_months_and_one_that_has_begun_is_left_out(tmp_path: Path) -> None:
    rows = DAILY.assign(date=DAILY["date"].map(lambda d: d.strftime("%m/%Y")))
    months = rows.groupby(["date", "page", "query"], as_index=False)[["clicks", "impressions"]].sum().rename(columns={"date": "Period"})
    begun = months[months["Period"] == "10/2026"].assign(Period="11/2026", clicks=1, impressions=2)
    site = opened(laid(tmp_path, months=pd.concat([months, begun])))
    assert str(site.windows.recent) == "2026-08-01..2026-10-31"
    assert int(site.ledger()["clicks"].sum()) == clicks((date(2026, 8, 1), date(2026, 10, 31)))
    assert fates(site)["incomplete month"] == begun["clicks"].sum()
    site.close()


def test_weeks_and_months_are_named_and_rows_that_cannot_be_read_are_told(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    names = dict(zip(range(1, 13), "janv. févr. mars avr. mai juin juil. août sept. oct. nov. déc.".split(), strict=True))
    rows = DAILY.assign(date=DAILY["date"].map(lambda d: f"{names[d.month]} {d.year}" if d.month != 9 else "septième"))
    months = rows.groupby(["date", "page", "query"], as_index=False)[["clicks", "impressions"]].sum()
    weeks = DAILY.assign(date=DAILY["date"].map(lambda d: "{}-W{:02}".format(*d.isocalendar()[:2])))
    site = opened(laid(tmp_path, months=months))
    capsys.readouterr()
    text = notes(site)["unreadable"]
    lost = months[months["date"] == "septième"]
    assert text.startswith(f"months.csv: {len(lost):,} of {len(months):,} rows are left out: unreadable date.")
    assert site.sql(text.partition('sql "')[2].rstrip('"'))["clicks"].sum() == lost["clicks"].sum()
    site.close()
    folder = laid(tmp_path / "weekly", weeks=weeks.groupby(["date", "page", "query"], as_index=False)[["clicks", "impressions"]].sum())
    write_settings(folder, None, force=False)
    assert "page x query by week" in capsys.readouterr().out


def test_a_short_history_is_halved_and_names_no_day_before_it(tmp_path: Path) -> None:
    last = DAILY[DAILY["date"] > date(2026, 9, 5)]
    site = opened(laid(tmp_path, days=last))
    assert (str(site.windows.recent), str(site.windows.reference)) == ("2026-10-04..2026-10-31", "2026-09-06..2026-10-03")
    assert str(site.windows.long) == "2026-09-06..2026-10-31"
    site.close()


# -- folders and files ---------------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("name", ["plain", "it's [a] {b} 100% $x ü"])
def test_a_folder_is_read_whole_from_inside_and_outside(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str) -> None:
    folder = tmp_path / name
    folder.mkdir()
    for month, rows in DAILY.groupby(DAILY["date"].map(lambda d: d.strftime("%Y-%m"))):
        rows.assign(page=HOME[:-1] + rows["page"]).to_csv(folder / f"search-{month}.csv", index=False)
    monkeypatch.chdir(folder)
    assert main(["init"]) == 0
    for where in ([], [str(folder)], [os.path.relpath(folder, tmp_path)]):
        monkeypatch.chdir(tmp_path if where and not Path(where[0]).is_absolute() else folder)
        assert main(["load", *where, "-q", "--fresh"]) == 0
        site = nibbet.open_site(*where)
        assert sum(one["measures"]["clicks"]["ledger"] for one in site.account["sources"]) == DAILY["clicks"].sum()
        site.close()


def test_lost_records_stop_the_load_and_leave_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = laid(tmp_path, days=DAILY)
    monkeypatch.setattr("nibbet.sources.clean.line_count", lambda path: 7)
    monkeypatch.setattr("nibbet.sources.clean.record_count", lambda *a, **k: 7)
    monkeypatch.setattr("nibbet.sources.clean.exact_record_count", lambda *a, **k: (7, None))
    with pytest.raises(SourceError, match=r"days.csv: 7 records stand in the file and 4,550 were read"):
        opened(folder).pages()


def test_members_sheets_and_blocks_are_tables_of_their_own(tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "all.zip", "w") as archive:
        archive.writestr("Pages.csv", of(RECENT, "page").to_csv(index=False))
        archive.writestr("Queries.csv", of(RECENT, "query").to_csv(index=False))
        archive.writestr("Days.csv", of(RECENT, "date").to_csv(index=False))
        archive.writestr("Filters.csv", "Filter,Value\nDate,2026-08-03 - 2026-10-31\nSearch type,web\n")
    site = opened(tmp_path, "all.zip")
    assert int(site.ledger()["clicks"].sum()) == clicks(RECENT)
    assert fates(site)["totals that name no page"] == clicks(RECENT)
    assert len(site.days) == 90, "days of the site stand in where pages have none"
    assert "Filters.csv" in notes(site)["left_out"]
    site.close()
    with xlsxwriter.Workbook(tmp_path / "book.xlsx") as book:
        sheet, old = book.add_worksheet("Now"), book.add_worksheet("Old")
        old.hide()
        for place, table in ((0, of(RECENT, "page")), (40, of(RECENT, "query"))):
            for number, row in enumerate([list(table.columns), *table.to_numpy().tolist()]):
                sheet.write_row(place + number, 0, row)
        for number, row in enumerate([["Page", "Clicks", "Impressions"], ["/old/", 900, 9000], ["/older/", 90, 900]]):
            old.write_row(number, 0, row)
    site = opened(tmp_path, "book.xlsx", period=[str(day) for day in RECENT])
    assert int(site.ledger()["clicks"].sum()) == clicks(RECENT)
    assert "Old (hidden)" in notes(site)["sheet_left_out"]
    site.close()


def test_blocks_are_parted_by_headers_not_by_blank_lines() -> None:
    rows = [["Page", "Clicks"], ["/a/", "1"], [], ["/b/", "2"], [], ["By day"], ["Day", "Clicks"], ["2026-10-01", "3"], ["2026-10-02", "0"]]
    found = blocks(rows)
    assert [(header, len(body)) for header, body, _ in found] == [(["Page", "Clicks"], 2), (["Day", "Clicks"], 2)]
    assert found[1][2] == ["By day"]


@pytest.mark.parametrize("form", ["keys", "headers", "objects", "lines"])
def test_answers_of_services_are_read(tmp_path: Path, form: str) -> None:
    rows = of(RECENT, "page", "query").to_dict("records")
    keyed = [
        {
            "keys": [r["Page"], r["Query"]],
            "clicks": r["Clicks"],
            "impressions": r["Impressions"],
            "ctr": r["Clicks"] / r["Impressions"],
            "position": r["Position"],
        }
        for r in rows
    ]
    headed = {
        "dimensionHeaders": [{"name": "page"}, {"name": "query"}],
        "metricHeaders": [{"name": n} for n in ("clicks", "impressions", "position")],
        "rows": [
            {
                "dimensionValues": [{"value": r["Page"]}, {"value": r["Query"]}],
                "metricValues": [{"value": str(r[n])} for n in ("Clicks", "Impressions", "Position")],
            }
            for r in rows
        ],
    }
    for number, start in enumerate((0, 6)):
        part = slice(start, start + 6 if not start else None)
        text = {
            "keys": lambda part=part: json.dumps({"rows": keyed[part], "note": "x"}),
            "headers": lambda part=part: json.dumps({**headed, "rows": headed["rows"][part]}),
            "objects": lambda part=part: json.dumps(rows[part]),
            "lines": lambda part=part: "\n".join(json.dumps(row) for row in keyed[part]),
        }[form]()  # fmt: skip
        for copy in range(1 + (number == 0)):  # the first page was fetched twice
            (tmp_path / f"answer {number}{copy} 2026-08-03 2026-10-31.json").write_text(text)
    site = opened(tmp_path, "*.json")
    assert int(site.ledger()["clicks"].sum()) == clicks(RECENT)
    assert site.queries()["query"].nunique() == of(RECENT, "query")["Query"].nunique()
    site.close()


# -- columns -------------------------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("header", "open_", "shut"), [
    ("Noindex", "no", "yes"), ("Indexable", "yes", "no"), ("Indexierbar", "ja", "nein"), ("Robots", "index, follow", "noindex"),
    ("Indexability", "Indexable", "Non-Indexable"), ("Excluded from the index", "0", "1"), ("インデックス可能", "はい", "いいえ"),
    ("Must not be indexed", "no", "yes"), ("May be indexed", "yes", "no"),
])  # fmt: skip
def test_a_flag_has_the_direction_of_its_header(tmp_path: Path, header: str, open_: str, shut: str) -> None:
    crawl = pd.DataFrame({"Address": PAGES, "Status": 200, header: [shut if page == "/kit/paddle" else open_ for page in PAGES]})
    folder = laid(tmp_path, **{f"pairs {RECENT[0]} {RECENT[1]}": of(RECENT, "page", "query"), "crawl": crawl})
    site = opened(folder, "pairs*", {"kind": "crawl", "files": "crawl.csv"})
    assert site.ledger().set_index("page")["indexable"].astype(str).to_dict() == {HOME[:-1] + p: str(p != "/kit/paddle") for p in PAGES}
    site.close()


def test_a_flag_against_all_evidence_is_doubted_and_can_be_turned(tmp_path: Path) -> None:
    many = pd.concat([of(RECENT, "page", "query").assign(Page=lambda t, n=n: t["Page"] + f"/{n}") for n in range(3)])
    crawl = pd.DataFrame({"Address": many["Page"].unique(), "Status": 200, "Noindex": "yes"})
    folder = laid(tmp_path, **{f"pairs {RECENT[0]} {RECENT[1]}": many, "crawl": crawl})
    for more, doubted in (({}, True), ({"reverse": ["noindex"]}, False)):
        site = opened(folder, "pairs*", {"kind": "crawl", "files": "crawl.csv", **more})
        assert site.ledger()["indexable"].eq(True).all()
        assert ("flag_contradicts" in notes(site)) == doubted
        site.close()


def test_what_is_no_page_is_named_and_columns_of_other_values_are_not_taken(tmp_path: Path) -> None:
    crawl = pd.DataFrame(
        {
            "Address": [*PAGES, "/a.png", "/x"],
            "Content Type": ["text/html; charset=utf-8"] * 5 + ["image/png", "text/css"],
            "Status": 200,
            "Handler": "no",
        }
    )
    folder = laid(tmp_path, **{f"pairs {RECENT[0]} {RECENT[1]}": of(RECENT, "page", "query"), "crawl": crawl})
    site = opened(folder, "pairs*", {"kind": "crawl", "files": "crawl.csv"})
    assert sorted(site.ledger()["page"].str.removeprefix(HOME[:-1])) == sorted(PAGES)
    assert fates(site) == {"no page, by its media type": 2}
    assert "Handler" in notes(site)["unused"]
    absent = {one["what"]: one for one in site.account["missing"]}
    assert {"visits", "an earlier window", "days", "canonical in the crawl"} <= set(absent)
    assert absent["visits"]["clicks"] == clicks(RECENT)
    site.close()


def test_source_and_medium_in_one_column_and_what_all_rows_share(tmp_path: Path) -> None:
    visits = pd.DataFrame(
        {
            "Landing page": PAGES * 2,
            "Source / medium": ["anyfinder / organic"] * 5 + ["letter / email"] * 5,
            "Sessions": [7] * 5 + [2] * 5,
            "Goal completions": 1,
        }
    )
    lone = of(RECENT, "query").iloc[:3]
    span = f"{RECENT[0]} {RECENT[1]}"
    folder = laid(tmp_path, **{f"pairs {span}": of(RECENT, "page", "query"), f"visits {span}": visits})
    site = opened(folder, "pairs*", {"kind": "landings", "files": "visits*"})
    pages = site.ledger()
    assert (pages["sessions_organic"].sum(), pages["sessions"].sum(), pages["conversions"].sum()) == (35, 45, 10)
    site.close()
    folder = laid(tmp_path / "one", **{f"queries {span}": lone})
    site = opened(folder, "queries*", constant={"page": "/kit/paddle"})
    assert site.queries()[["page", "clicks"]].groupby("page")["clicks"].sum().to_dict() == {HOME + "kit/paddle": lone["Clicks"].sum()}
    site.close()
    with pytest.raises(nibbet.ConfigError, match="planet"):
        opened(folder, constant={"planet": "mars"})


def test_odd_figures_are_set_aside_or_named(tmp_path: Path) -> None:
    good = of(RECENT, "page", "query").astype({"Clicks": "object", "Position": "object"})
    odd = good.head(4).assign(Clicks=[-3, "inf", "nan", 10**15], Query=["n1", "n2", "n3", "n4"])
    table = pd.concat([good, odd, good.head(2), good.head(1).assign(Position="inf", Query="p")])
    site = opened(laid(tmp_path, **{f"t {RECENT[0]} {RECENT[1]}": table}))
    pages, gone, said = site.ledger(), fates(site), notes(site)
    assert pages["position"].between(1, 10).all()
    assert {"negative clicks", "unreadable clicks", "impossible clicks"} <= set(gone)
    assert said["repeated"].startswith(f"t {RECENT[0]} {RECENT[1]}.csv: 2 rows repeat")
    assert "1 cells of clicks are not numbers" in said["no_number"]
    assert f"{good['Impressions'].iloc[0]:,} impressions have no usable position" in said["placeless"]
    site.close()


SHAPES_OF_STRANGERS: list[tuple[str, str, list[list[str]]]] = [
    ("search", "date page query clicks impressions", [[f"2026-10-{d:02d}", f"/a{d % 3}/", f"word {d % 5} thing", str(d % 3), str(9 + d)] for d in range(1, 29)]),
    ("search", "page clicks impressions", [[f"/a{d}/", str(d % 3), str(30 + d), f"{(d % 3) / (30 + d):.4f}", f"{1.5 + d / 7:.1f}"] for d in range(1, 29)]),
    ("search", "query clicks impressions", [[f"word {d} thing", str(d % 4), str(50 + d), f"{100 * (d % 4) / (50 + d):.2f}%"] for d in range(1, 29)]),
    ("search", "clicks impressions", [[f"2026-10-{d:02d}", str(d + 3), str(90 + d)] for d in range(1, 29)]),
    ("landings", "page sessions", [[f"2026-10-{d:02d}", f"/a{d % 4}/", str(d)] for d in range(1, 29)]),
    ("crawl", "page", [[f"https://s.example/a{d}/", "200" if d % 9 else "404", f"A title of {d}", str(300 + d)] for d in range(1, 29)]),
    ("links", "source target", [[f"https://s.example/a{d}/", f"https://s.example/b{d % 5}/", "more"] for d in range(1, 29)]),
    ("backlinks", "from_url page", [[f"https://o{d}.example/x", f"https://s.example/b{d % 5}/", "a link"] for d in range(1, 29)]),
    ("results", "query", [[f"word {d // 10}", str(d % 10 + 1), f"https://o{d % 10}.example/{d}", f"Heading {d}"] for d in range(40)]),
    ("demand", "query volume", [[f"word {d} thing", f"2026-{1 + d % 12:02d}", str(100 * d)] for d in range(1, 29)]),
]  # fmt: skip


@pytest.mark.parametrize("seed", range(4))
def test_tables_whose_words_nobody_prepared_are_told_by_their_values(seed: int) -> None:
    """Required columns over 40 made-up shapes: at least 0.95 found, in any order of columns."""
    r, right, asked = Random(seed), 0, 0
    for kind, required, rows in SHAPES_OF_STRANGERS:
        order = list(range(len(rows[0])))
        if kind not in ("links", "backlinks"):  # what links where stands in the order of its columns
            r.shuffle(order)
        head = ["".join(r.choices("aeioukmnrstvzxqw", k=r.randint(4, 9))) for _ in order]
        found = guess_kind(table_of_rows("t", head, [[row[n] for n in order] for row in rows], ""))
        wanted = dict.fromkeys(required.split())
        asked += len(wanted)
        right += len(set(wanted) & set(found.matches)) if found is not None and found.kind == kind else 0
    assert right >= 0.95 * asked


# -- queries alone -------------------------------------------------------------------------------------------------------------------------


def test_queries_alone_give_topics_openings_and_the_map(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    table = of(RECENT, "query").sort_values("Clicks", ascending=False)
    folder = tmp_path / "site"
    folder.mkdir()
    (folder / "q.csv").write_text("# Start date: 2026-08-03\n# End date: 2026-10-31\n" + table.to_csv(index=False))
    assert main(["init", str(folder), "--home", HOME]) == 0
    assert main(["run", str(folder), "-q"]) == 0
    assert "none, because no row names a page" in capsys.readouterr().out
    queries = pd.read_csv(folder / "out" / "queries.csv")
    assert queries["clicks"].sum() == clicks(RECENT)
    assert queries["page"].isna().all()
    topics = pd.read_csv(folder / "out" / "topics.csv")
    assert (
        topics["clicks"].sum()
        == queries.loc[~queries["brand"], "clicks"].sum() - queries.loc[queries["topic"].isna() & ~queries["brand"], "clicks"].sum()
    )
    assert set(topics["served"]) == {"unknown"}
    assert set(pd.read_csv(folder / "out" / "openings.csv")["kind"]) <= {"climb", "snippet"}


@pytest.mark.parametrize("shape", ["monthly", "sidebyside"])
@pytest.mark.slow
def test_other_shapes_of_the_demo_hold_its_clicks(world: Callable[..., Path], tmp_path: Path, shape: str) -> None:
    folder = tmp_path / "site"
    shutil.copytree(world(5, 60), folder, ignore=shutil.ignore_patterns("out", ".nibbet"))
    true = daily_pages(folder)
    wanted = within(true[~true["page"].str.contains("forum")], (date(2026, 8, 1), date(2026, 10, 31)) if shape == "monthly" else RECENT)[
        "clicks"
    ].sum()
    reshape(folder, shape)
    with nibbet.open_site(folder) as site:
        assert site.ledger()["clicks"].sum() == wanted


@pytest.mark.parametrize("shape", ["undated", "screens"])
@pytest.mark.slow
def test_the_demo_comes_in_other_shapes(world: Callable[..., Path], tmp_path: Path, shape: str) -> None:
    folder = tmp_path / "site"
    shutil.copytree(world(5, 120), folder, ignore=shutil.ignore_patterns("out", ".nibbet"))
    shutil.copy(world(5, 120).parent / "truth.csv", tmp_path / "truth.csv")
    true = daily_pairs(folder) if shape == "undated" else daily_pages(folder)
    wanted = int(within(true[~true["page"].str.contains("forum")], RECENT)["clicks"].sum())
    reshape(folder, shape)
    site = nibbet.open_site(folder)
    pages = site.pages()
    both = against_truth(folder, pages)
    assert int(pages["clicks"].sum()) == wanted
    assert costly(both).empty
    judged = both[both["verdict_true"] != ""]
    assert macro_f1(judged["verdict_true"], judged["said"]) > {"undated": 0.85, "screens": 0.5}[shape]
    site.close()


@pytest.mark.parametrize(("days", "dated"), [(28, False), (40, True), (12, True)])
def test_queries_of_one_window_alone_tell_no_change(days: int, dated: bool, tmp_path: Path) -> None:
    """Totals of pages over 16 months, their queries over the last days alone: a page's demand fell to a third, nothing else changed."""
    chance, end, rows = Random(3), date(2026, 10, 31), []
    for number, subject in enumerate(("boiler", "valve", "pump", "flue", "tank", "pipe")):
        for back in range(480):
            for query in (f"{subject} noise", f"replace {subject}"):
                shown = chance.randint(50, 70) * (3 if subject == "pump" and back > 200 else 1)
                rows.append((end - timedelta(back), f"https://heat.example/{subject}", query, shown // (4 + number), shown, 2.0 + number))
    table = pd.DataFrame(rows, columns=["Date", "Page", "Query", "Clicks", "Impressions", "Position"])
    pages = table.groupby(["Date", "Page"], as_index=False).agg({"Clicks": "sum", "Impressions": "sum", "Position": "mean"})
    pages.to_csv(tmp_path / "pages.csv", index=False)
    first = end - timedelta(days - 1)
    named = table[table["Date"] >= first]
    if not dated:
        named = named.groupby(["Page", "Query"], as_index=False).agg({"Clicks": "sum", "Impressions": "sum", "Position": "mean"})
    named.to_csv(tmp_path / f"queries {first} {end}.csv", index=False)
    write_settings(tmp_path, "https://heat.example/", force=False)
    with nibbet.open_site(tmp_path) as site:
        ledger, windows = site.pages().set_index("page"), site.windows
        assert windows.recent.days == (90 if days < 28 else days), "the days on which queries are named, where they are enough"
        assert site.compare(by="query").empty
        assert site.compare(by="topic").empty
        assert "queries_alone" in {note["code"] for note in site.account["notes"]}
        assert not (site.lives()["level"] == "topic").any(), "nothing is told of the lives of topics"
        parts = site.compare(by="page").set_index("key")
    fell = parts.loc["https://heat.example/pump"]
    assert fell["why"] == "demand"
    assert fell["demand"] < 0.8 * fell["change"], "most of the fall"
    assert parts["rank"].abs().max() < 1
    assert parts["pull"].abs().max() < 0.1 * abs(fell["change"])
    assert not ledger["cause"].eq("decay").any()


def test_searches_told_by_bands_count_with_their_middle(tmp_path: Path) -> None:
    days = [f"{date(2026, 10, 31) - timedelta(back)},/a,oak bench,3,40,2.0" for back in range(30)]
    (tmp_path / "search.csv").write_text("\n".join(["Date,Page,Query,Clicks,Impressions,Position", *days]), "utf-8")
    (tmp_path / "wanted.csv").write_text(
        "Keyword,Searches\noak bench,100 - 1K\nash bench,1K – 10K\nelm bench,10 - 100\nfir bench,1.5K - 6K\nyew bench,720\n", "utf-8"
    )
    write_settings(tmp_path, "https://oak.example/", force=False)
    with nibbet.open_site(tmp_path) as site:
        volumes = site.sql("select query, volume from demand").set_index("query")["volume"]
    assert volumes.to_dict() == {"oak bench": 316, "ash bench": 3162, "elm bench": 32, "fir bench": 3000, "yew bench": 720}


def test_queries_of_long_ago_leave_pages_to_be_judged_by_their_rows(tmp_path: Path) -> None:
    days = [date(2026, 10, 31) - timedelta(back) for back in range(480)]
    shown = {"/good": 2.0, "/near": 9.0}
    rows = [(day, f"https://oak.example{page}", int(99 / place), 300, place) for day in days for page, place in shown.items()]
    pages = pd.DataFrame(rows, columns=["Date", "Page", "Clicks", "Impressions", "Position"])
    pages.to_csv(tmp_path / "pages.csv", index=False)
    pages[pages["Date"] < date(2025, 9, 30)].assign(Query="oak bench").to_csv(tmp_path / "queries.csv", index=False)
    write_settings(tmp_path, "https://oak.example/", force=False)
    with nibbet.open_site(tmp_path) as site:
        ledger = site.pages().set_index("page")
        assert ledger["pull"].between(0.5, 2).all(), "each as if one query made it"
        assert ledger["queries"].isna().all() or (ledger["queries"] == 0).all()
        assert ledger.loc["https://oak.example/near", "cause"] == "climb"
        assert any("because query rows are older" in note["text"] for note in site.account["notes"])
        assert (site.compare(by="page")["pull"].abs() < 50).all()


def test_searches_with_a_column_for_each_month_are_read_by_month(tmp_path: Path) -> None:
    """Beside their mean, below a preamble, in a folder whose other files bear like names."""
    for back in range(40):
        line = f"{date(2026, 10, 31) - timedelta(back)},/a,oak bench,3,40,2.0\n"
        with (tmp_path / "export.csv").open("a", encoding="utf-8") as file:
            file.write(("Date,Page,Query,Clicks,Impressions,Position\n" if not back else "") + line)
    months = pd.period_range("2025-11", "2026-10", freq="M")
    head = ["Keyword", "Currency", "Avg. monthly searches", "Competition", *(f"Searches: {month:%b %Y}" for month in months)]
    body = ["oak bench", "EUR", "100 - 1K", "Low", *(str(10 * month.month) for month in months)]
    lines = ["Stats of 2026-11-01", "", "\t".join(head), "\t".join(body)]
    (tmp_path / "export1.csv").write_text("\n".join(lines), "utf-16")
    (tmp_path / "export2.csv").write_text("Address,Status,Title\nhttps://oak.example/a,200,Oak bench\n", "utf-8")
    write_settings(tmp_path, "https://oak.example/", force=False)
    assert '"export*.csv"' not in (tmp_path / "nibbet.toml").read_text("utf-8"), "the files are of several kinds"
    with nibbet.open_site(tmp_path) as site:
        rows = site.sql("select month, volume from demand order by month")
        assert rows["volume"].tolist() == [10 * month.month for month in months]
        assert pd.to_datetime(rows["month"]).dt.to_period("M").tolist() == list(months)
        assert site.ledger()["clicks"].sum() > 0


def test_an_inventory_with_what_editors_keep_serves_as_both(tmp_path: Path) -> None:
    days = [f"{date(2026, 10, 31) - timedelta(back)},/a,oak bench,3,40,2.0" for back in range(400)]
    (tmp_path / "search.csv").write_text("\n".join(["Date,Page,Query,Clicks,Impressions,Position", *days]), "utf-8")
    rows = ["Address,Status,Title,Protected", "https://oak.example/a,200,Oak bench,no", "https://oak.example/old,200,Old,yes"]
    (tmp_path / "crawl.csv").write_text("\n".join([*rows, "https://oak.example/shown,200,Shown,no"]), "utf-8")
    visits = [f"{date(2026, 10, 31) - timedelta(back)},/shown,Email,2" for back in range(400)]
    (tmp_path / "visits.csv").write_text("\n".join(["Date,Landing page,Channel,Sessions", *visits]), "utf-8")
    write_settings(tmp_path, "https://oak.example/", force=False)
    with nibbet.open_site(tmp_path) as site:
        assert "unused" not in {note["code"] for note in site.account["notes"]}
        verdicts = site.verdicts().set_index("page")
        assert "it is protected" in verdicts.loc["https://oak.example/old", "because"]
        assert (
            verdicts.loc["https://oak.example/shown", "because"] == "0 clicks; it is visited: 730 sessions from all channels in 365 days."
        )
        assert site.ledger().set_index("page").loc["https://oak.example/a", "title"] == "Oak bench"


def test_hosts_of_a_site_are_told_apart_by_what_they_serve(tmp_path: Path) -> None:
    """A language on a host of its own, a host for phones with the same pages, and one that the site has moved from."""
    hosts = {
        "www.pier.example": "/a /b /c",
        "de.pier.example": "/a /hafen /markt",
        "m.pier.example": "/a /b /c",
        "oldpier.example": "/1.asp /2.asp",
    }
    rows = [
        (date(2026, 5, 1) + timedelta(day), f"https://{host}{path}", f"{path[1:]} pier", 2, 20, 3.0)
        for day in range(120)
        for host, paths in hosts.items()
        for path in paths.split()
    ]
    table = pd.DataFrame(rows, columns=["Date", "Page", "Query", "Clicks", "Impressions", "Position"])
    table.to_csv(tmp_path / "search.csv", index=False)
    moved = [(f"http://oldpier.example/{n}.asp", f"https://www.pier.example/{path}", 301) for n, path in enumerate("abc", 1)]
    pd.DataFrame(moved, columns=["Source", "Target", "Status"]).to_csv(tmp_path / "moves.csv", index=False)
    write_settings(tmp_path, "https://www.pier.example/", force=False)
    written = (tmp_path / "nibbet.toml").read_text("utf-8")
    for line in ('hosts = ["m.pier.example"]', 'more_hosts = ["de.pier.example"]', 'old_hosts = ["oldpier.example"]'):
        assert line in written
    with nibbet.open_site(tmp_path) as site:
        pages = site.pages().set_index("page")
        assert pages["clicks"].sum() == 2 * 11 * min(site.windows.recent.days, 120), "nothing is set aside"
        assert pages.loc["https://pier.example/a", "clicks"] == 2 * pages.loc["https://de.pier.example/a", "clicks"]
        assert pages.loc["https://de.pier.example/a", "section"] == "de.pier.example/"
        assert pages.loc["https://pier.example/a", "moved_from"] == "https://oldpier.example/1.asp"
        verdicts = site.verdicts()["page"]
    assert verdicts.str.contains("//de.pier").sum() == 3
    assert not verdicts.str.contains("oldpier").any()


def test_rows_without_places_serve_for_what_they_tell(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    chance = Random(5)
    rows = [
        (date(2026, 10, 31) - timedelta(back), f"https://oven.example/{name}", f"{name} bread", shown // 5, shown)
        for back in range(460)
        for name in ("oat", "rye", "spelt")
        for shown in [chance.randint(40, 60) // (1 if name != "rye" or back > 200 else 3)]
    ]
    pd.DataFrame(rows, columns=["Date", "Page", "Query", "Clicks", "Impressions"]).to_csv(tmp_path / "search.csv", index=False)
    write_settings(tmp_path, "https://oven.example/", force=False)
    assert main(["run", str(tmp_path), "-q"]) == 0
    with nibbet.open_site(tmp_path) as site:
        pages, changes = site.pages().set_index("page"), site.compare(by="page").set_index("key")
        fell = changes.loc["https://oven.example/rye"]
        assert not pages["thin"].any()
        assert abs(fell["untold"]) > 0.8 * abs(fell["change"]), "shown less: by demand or by rank"
        assert fell[["demand", "rank"]].abs().max() < 0.001
        assert not site.topics()["because"].str.contains("position").any()
    capsys.readouterr()
    assert main(["query", "rye bread", "--site", str(tmp_path), "-q"]) == 0
    assert "position 0" not in capsys.readouterr().out


@pytest.mark.parametrize("header", ["Hostname", "Domaine"])
def test_the_same_path_on_two_hosts_is_two_pages(header: str, tmp_path: Path) -> None:
    days = pd.date_range("2026-05-01", "2026-10-31")
    rows = [
        ("www.tarnbrook.example", "/otter", 3),
        ("blog.tarnbrook.example", "/otter", 7),
        ("-", "/otter", 1),
        ("away.example", "/otter", 2),
    ]
    parts = [
        pd.DataFrame({"Date": days, header: host, "Landing page": path, "Channel": "Organic", "Sessions": count})
        for host, path, count in rows
    ]
    pd.concat(parts).to_csv(tmp_path / "visits.csv", index=False)
    pages = [f"https://{host}/otter" for host in ("www.tarnbrook.example", "blog.tarnbrook.example")]
    found = [
        pd.DataFrame({"Date": days, "Page": page, "Query": "otter", "Clicks": 2, "Impressions": 30, "Position": 3.0}) for page in pages
    ]
    pd.concat(found).to_csv(tmp_path / "search.csv", index=False)
    write_settings(tmp_path, HOME, force=False)
    toml = (tmp_path / "nibbet.toml").read_text("utf-8")
    (tmp_path / "nibbet.toml").write_text(toml.replace("[site]", '[site]\nmore_hosts = ["blog.tarnbrook.example"]'), "utf-8")
    with nibbet.open_site(tmp_path) as site:
        sessions, account = site.ledger().set_index("page")["sessions_long"], site.account
    assert sessions.to_dict() == {pages[0].replace("www.", ""): 4 * len(days), pages[1]: 7 * len(days)}
    visits = next(source for source in account["sources"] if source["kind"] == "landings")
    assert visits["measures"]["sessions"] == {"read": 13 * len(days), "ledger": 11 * len(days), "set_aside": 2 * len(days)}


def test_a_host_of_visitors_is_no_host_of_the_site() -> None:
    rows = [[f"2026-10-10T10:00:{n:02}", f"/{n % 3}", f"client{n}.away.example", "200"] for n in range(40)]
    found = guess_kind(table_of_rows("log.csv", ["time", "path", "host", "status"], rows, ""))
    assert found is not None
    assert (found.kind, "host" in found.matches) == ("hits", False)
    found = guess_kind(
        table_of_rows("log.csv", ["time", "path", "host", "status"], [[*row[:2], "www.tarnbrook.example", row[3]] for row in rows], "")
    )
    assert found is not None
    assert found.matches["host"].header == "host"


def test_init_proposes_the_days_that_a_name_counts(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    rows = of((date(2026, 6, 1), date(2026, 10, 31)), "date", "page")
    laid(tmp_path, pages=rows, **{"pairs__last__28__days": of((date(2026, 10, 4), date(2026, 10, 31)), "page", "query")})
    write_settings(tmp_path, HOME, force=False)
    assert 'Fill in its 1 line marked "not known"' in capsys.readouterr().out
    assert "# not known: period = [2026-10-04, 2026-10-31]" in (tmp_path / "nibbet.toml").read_text()


def test_a_site_without_anything_to_measure_has_every_table(tmp_path: Path) -> None:
    laid(tmp_path, search=of((date(2026, 10, 30), date(2026, 10, 31)), "date", "page", "query").head(3))
    (tmp_path / "crawl.csv").write_text("Address,Status,Title\n/,200,Home,9\n/rivers/elver,200,Elver,9\n")  # every row has a cell too many
    with opened(tmp_path, "search.csv", {"kind": "crawl", "files": "crawl.csv"}) as site:
        assert all(site.table(name) is not None for name in TABLES)
    laid(tmp_path, search=of((date(2026, 10, 30), date(2026, 10, 31)), "date", "page", "query").assign(Clicks=0))
    (tmp_path / "crawl.csv").write_text("Address,Status,Title\n/,200,Home\n/rivers/elver,200 OK,Elver\n/kit/paddle,404 (Not Found),\n")
    with opened(tmp_path, "search.csv", {"kind": "crawl", "files": "crawl.csv"}) as site:
        assert all(site.table(name) is not None for name in TABLES)
        assert site.pages().set_index("page")["status"].dropna().to_dict() == {
            HOME: 200,
            HOME + "rivers/elver": 200,
            HOME + "kit/paddle": 404,
        }


def test_many_tables_are_stacked_and_many_conditions_joined() -> None:
    table = ibis.memtable(pd.DataFrame({"n": [1, 2, 3]}))
    engine = ibis.duckdb.connect()
    whole = engine.to_pandas(stacked([table] * 300))["n"]
    assert whole.tolist() == [1, 2, 3] * 300, "in their order, and not nested too deep for the compiler"
    assert engine.to_pandas(table.filter(any_of([table.n == place for place in range(3, 900)])))["n"].tolist() == [3]


@pytest.mark.slow
def test_tables_of_many_weeks_are_read(tmp_path: Path) -> None:
    """Each a window of its own: so many unions in a chain are nested too deep for the compiler."""
    weeks = [date(2026, 11, 1) - timedelta(7 * back) for back in range(66)]
    with pd.ExcelWriter(tmp_path / "weeks.xlsx", engine="xlsxwriter") as book:
        for end in weeks:
            rows = pd.DataFrame({"Page": [HOME, HOME + "a"], "Clicks": [3, 2], "Impressions": 40, "Position": 2.5})
            rows.to_excel(book, sheet_name=f"{end - timedelta(6)} {end}", index=False)
    write_settings(tmp_path, HOME, force=False)
    with nibbet.open_site(tmp_path) as site:
        assert site.windows.recent.days == 91
        assert site.ledger().set_index("page")["clicks_long"].to_dict() == {HOME: 3 * 52, HOME + "a": 2 * 52}


WAYS_OF_DAYS: dict[str, Callable[[date], object]] = {
    "weekday": lambda d: f"{d:%a} {d:%d/%m/%Y}", "long": lambda d: f"{d:%A}, {d:%B} {d.day}, {d.year}", "spaced": lambda d: f"{d.day}. {d.month}. {d.year}",
    "short": lambda d: f"{d:%d-%b-%y}", "korean": lambda d: f"{d.year}. {d.month}. {d.day}.", "words": lambda d: f"{d.year}년 {d.month}월 {d.day}일",
}  # fmt: skip


@pytest.mark.parametrize("way", WAYS_OF_DAYS)
def test_days_are_read_however_they_are_written(way: str) -> None:
    days = [date(2025, 12, 25) + timedelta(days=n) for n in range(0, 300, 7)]
    texts = [str(WAYS_OF_DAYS[way](day)) for day in days]
    assert day_of_text(texts, where="s.csv", header="Day") == dict(zip(texts, days, strict=True))
    assert all(map(is_date, texts))


def test_files_of_one_day_each_are_a_table_with_days(tmp_path: Path) -> None:
    whole = of((date(2026, 9, 1), date(2026, 10, 31)), "date", "page", "query")
    by_day = dict(list(whole.groupby("Date")))
    laid(tmp_path / "one", search=whole.assign(Date=[int(f"{day:%Y%m%d}") for day in whole["Date"]]))
    (tmp_path / "many").mkdir()
    for day, rows in by_day.items():
        rows.drop(columns="Date").assign(Page=rows["Page"].map("tarnbrook.example{}".format)).to_csv(
            tmp_path / "many" / f"search_{day}.csv", index=False
        )
    (tmp_path / "book").mkdir()
    with pd.ExcelWriter(tmp_path / "book" / "search.xlsx", engine="xlsxwriter") as book:
        for day, rows in by_day.items():
            rows.drop(columns="Date").to_excel(book, sheet_name=str(day), index=False)
    for folder, home in (("many", None), ("book", HOME)):
        write_settings(tmp_path / folder, home, force=False)
        with opened(tmp_path / "one", "search.csv") as one, nibbet.open_site(tmp_path / folder) as many:
            assert one.windows == many.windows
            pd.testing.assert_frame_equal(one.ledger(), many.ledger())
    for path in sorted((tmp_path / "many").glob("*.csv"))[2:]:
        path.unlink()
    with pytest.raises(SourceError, match="carry no date"):  # two days may be those of the exports
        _ = nibbet.open_site(tmp_path / "many").windows
