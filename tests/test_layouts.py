"""Tables laid out for people: outlines with subtotals, a row for each measure, headers of several lines."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.init import write_settings
from nibbet.cli.main import main
from nibbet.sources.layouts import in_plain_rows
from nibbet.sources.sheets import table_of_rows

HOME = "https://tarnbrook.example"
PAGES = [f"{HOME}/{name}/" for name in ("canoe", "kayak", "raft", "paddle", "bag", "trailer", "dinghy", "punt")]
ROWS = pd.DataFrame(
    [(page, f"2026-{month:02d}", query) for page in PAGES for month in range(1, 11) for query in (page[len(HOME) + 1 : -1], page[len(HOME) + 1 : -1] + " hire", "to hire")],
    columns=["Page", "Month", "Query"],
).assign(
    Clicks=lambda t: np.arange(len(t)) % 7, Impressions=lambda t: 40 + np.arange(len(t)) % 11, Position=lambda t: 1.5 + np.arange(len(t)) % 5
)  # fmt: skip


def read(folder: Path) -> tuple[pd.DataFrame, dict[str, int], set[str]]:
    """The ledger, the rows set aside by reason, and the notes."""
    (folder / "nibbet.toml").unlink(missing_ok=True)
    write_settings(folder, HOME + "/", force=False)
    with nibbet.open_site(folder) as site:
        gone = [one for source in site.account["sources"] for one in source["set_aside"]]
        return site.ledger(), {one["reason"]: one["rows"] for one in gone}, {note["code"] for note in site.account["notes"]}


@pytest.fixture(scope="module")
def plain(tmp_path_factory: pytest.TempPathFactory) -> pd.DataFrame:
    folder = tmp_path_factory.mktemp("plain")
    ROWS.to_csv(folder / "search.csv", index=False)
    ledger, aside, notes = read(folder)
    assert not aside
    assert not notes & {"outline", "measures_below"}
    return ledger


def outline(rows: pd.DataFrame, within: str) -> pd.DataFrame:
    """Each name above its rows alone, with a total below each page (behind its name, or in the innermost column) and one of all."""
    parts = []
    for page, group in rows.groupby("Page", sort=False):
        shown = group.assign(Page=[page, *[""] * (len(group) - 1)], Month=group["Month"].where(~group["Month"].duplicated(), ""))
        name = {"Page": (f"{page} Total", f"Total {page}")[len(parts) % 4 // 2]} if within == "Page" else {"Page": "", "Query": "Subtotal"}
        parts += [
            shown,
            pd.DataFrame([{"Month": "", "Query": "", **name, "Clicks": group["Clicks"].sum(), "Impressions": group["Impressions"].sum()}]),
        ]
    return pd.concat(
        [*parts, pd.DataFrame([{"Page": "Grand Total", "Clicks": rows["Clicks"].sum(), "Impressions": rows["Impressions"].sum()}])]
    )


@pytest.mark.parametrize(("within", "suffix"), [("Page", "csv"), ("Query", "csv"), ("Page", "xlsx")])
def test_a_name_above_its_rows_counts_for_each_of_them_and_totals_for_none(
    within: str, suffix: str, plain: pd.DataFrame, tmp_path: Path
) -> None:
    table = outline(ROWS, within)
    if suffix == "csv":
        table.to_csv(tmp_path / "search.csv", index=False)
    else:
        table.replace("", None).to_excel(tmp_path / "search.xlsx", index=False)
    ledger, aside, notes = read(tmp_path)
    pd.testing.assert_frame_equal(ledger, plain)
    assert sum(aside.values()) == len(PAGES) + 1
    assert aside["total row"] >= 1
    assert "outline" in notes


def test_texts_are_names_too_below_an_outermost_address() -> None:
    rows = [
        [page if not n else "", "Direct" if n == 0 else "Mail" if n == 3 else "", f"2026-0{n % 3 + 1}", str(n)]
        for page in PAGES
        for n in range(6)
    ]
    sheet = in_plain_rows(table_of_rows("visits", ["Page", "Channel", "Month", "Sessions"], rows, ""))
    assert [row[:2] for row in sheet.sample[:6]] == [[PAGES[0], "Direct"]] * 3 + [[PAGES[0], "Mail"]] * 3
    withheld = [
        [page if not n else "", f"2026-0{n // 3 + 1}" if n % 3 == 0 else "", "" if n % 3 else "hire", str(n)]
        for page in PAGES
        for n in range(6)
    ]
    sheet = in_plain_rows(
        table_of_rows("search", ["Page", "Month", "Query", "Clicks"], [row for row in withheld if row[2] or row[3] in "14"], "")
    )
    assert [row[2] for row in sheet.sample[:4]] == ["hire", "", "hire", ""], "a query that the source withholds stays blank"


def test_rows_that_lack_a_name_by_chance_are_given_none(tmp_path: Path) -> None:
    lost = np.random.default_rng(2).random(len(ROWS)) < 0.3
    ROWS.assign(Page=ROWS["Page"].where(~lost)).to_csv(tmp_path / "search.csv", index=False)
    _, aside, notes = read(tmp_path)
    assert "outline" not in notes
    assert aside == {"no address": lost.sum()}
    withheld = ROWS.assign(Query=ROWS["Query"].where(ROWS["Query"].str.contains("hire"), ""))
    withheld.to_csv(tmp_path / "search.csv", index=False)
    assert "outline" not in read(tmp_path)[2], "a blank query is one that the source withholds"
    pages = [f"{HOME}/guide-{n}/" for n in range(20)]
    for names in (["published", "page"], ["page", "published"]):
        listed = pd.DataFrame({"page": pages, "published": [f"2024-03-{n + 1:02d}" if n % 3 else "" for n in range(20, 0, -1)]})[names]
        sheet = table_of_rows("list", names, listed.to_numpy().tolist(), "")
        assert in_plain_rows(sheet) is sheet, "a blank day of publication is unknown"


@pytest.mark.parametrize("within", ["Query", "Metric"])
def test_a_row_for_each_measure_is_read_as_columns(within: str, plain: pd.DataFrame, tmp_path: Path) -> None:
    long = ROWS.melt(["Page", "Month", "Query"], var_name="Metric", value_name="Value").sort_values(within, kind="stable")
    many = pd.concat([long.assign(Query=long["Query"] + f" {n}") for n in range(60)]) if within == "Metric" else long
    many.to_csv(tmp_path / "search.csv", index=False)
    ledger, aside, notes = read(tmp_path)
    assert not aside
    assert "measures_below" in notes
    times = 60 if within == "Metric" else 1
    assert (ledger["clicks"] == plain["clicks"] * times).all()
    np.testing.assert_allclose(ledger["position"], plain["position"])


@pytest.mark.parametrize("form", ["csv", "parquet"])
def test_rows_that_are_sessions_are_counted(form: str, plain: pd.DataFrame, tmp_path: Path) -> None:
    ROWS.to_csv(tmp_path / "search.csv", index=False)
    visits = pd.concat([ROWS[["Page", "Month"]]] * 3, ignore_index=True)
    visits = visits.assign(started_at=visits["Month"] + "-09 12:00:00", session_id=[f"s{n:06}" for n in range(len(visits))])
    visits = visits.assign(converted=np.where(np.arange(len(visits)) % 10 == 0, "yes", "no"), channel="organic search").drop(columns="Month")
    visits.to_csv(tmp_path / "visits.csv", index=False) if form == "csv" else visits.to_parquet(tmp_path / "visits.parquet", index=False)
    notes = read(tmp_path)[2]
    assert "sessions_by_row" in notes
    assert "repeated" not in notes, "sessions of an hour may be alike"
    with nibbet.open_site(tmp_path) as site:
        (landings,) = [source for source in site.account["sources"] if source["kind"] == "landings"]
    measures = {name: counted["read"] for name, counted in landings["measures"].items() if counted["read"]}
    assert measures == {"sessions": len(visits), "conversions": (visits["converted"] == "yes").sum()}


def test_a_folder_for_each_day_tells_the_day_of_its_rows(plain: pd.DataFrame, tmp_path: Path) -> None:
    days = pd.date_range("2026-05-01", "2026-10-31")
    for day in days:
        folder = tmp_path / "search" / f"date={day.date()}"
        folder.mkdir(parents=True)
        shown = ROWS[["Page", "Query", "Clicks", "Impressions"]].drop_duplicates(["Page", "Query"]).assign(Impressions=day.day_of_year, filename="x")
        shown.to_parquet(folder / "part-0.parquet", index=False)
    ledger, aside, _ = read(tmp_path)
    assert not aside
    once = ROWS.drop_duplicates(["Page", "Query"]).groupby("Page")["Clicks"].sum()
    assert ledger.set_index("page")["clicks_long"].to_dict() == {page: clicks * len(days) for page, clicks in once.items()}


def test_line_ends_in_headers_lose_no_row(plain: pd.DataFrame, tmp_path: Path) -> None:
    for end in ("\n", "\r\n"):
        headed = ROWS.rename(columns={"Clicks": "Clicks\n(sum)", "Impressions": "Impressions\nper month\n[#]"})
        text = "Made by hand\n\n" + headed.to_csv(index=False)
        (tmp_path / "search.csv").write_text(text, "utf-8", newline=end)
        pd.testing.assert_frame_equal(read(tmp_path)[0], plain)


def test_pages_and_queries_below_each_other_in_one_column_are_named(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    lines = [(page, 6, 90) for page in PAGES for page in (page, page[len(HOME) + 1 : -1], "to hire in " + page[len(HOME) + 1 : -1])]
    pd.DataFrame(lines, columns=["Row Labels", "Sum of Clicks", "Sum of Impressions"]).to_csv(tmp_path / "search.csv", index=False)
    assert main(["init", str(tmp_path)]) == 2
    assert '"Row Labels" holds addresses and other texts below each other' in capsys.readouterr().err


def test_days_in_two_columns_are_known_beside_parts(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    table = ROWS.assign(
        Jahr=2026, Monat=ROWS["Month"].str[5:].astype(int), **{"Klicks (Handy)": 1, "Klicks (Desktop)": 2, "Impressionen": 9}
    )
    table[["Jahr", "Monat", "Page", "Query", "Klicks (Handy)", "Klicks (Desktop)", "Impressionen"]].to_csv(
        tmp_path / "suche.csv", index=False
    )
    write_settings(tmp_path, HOME + "/", force=False)
    assert "NOT KNOWN" not in capsys.readouterr().out
