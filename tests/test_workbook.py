"""The workbook: a sheet per question, figures as figures, nothing that runs."""

from __future__ import annotations

import re
import zipfile
from pathlib import Path

import pandas as pd
from python_calamine import CalamineWorkbook

import nibbet
from nibbet.core.meanings import COLUMN_MEANINGS
from nibbet.render.workbook import _heights, workbook
from nibbet.tables import SHEETS, TABLES


def test_the_sheets_hold_what_the_tables_hold(ran: Path) -> None:
    book = CalamineWorkbook.from_path(str(ran / "out" / "workbook.xlsx"))
    assert book.sheet_names == ["start", *SHEETS, "definitions"]
    for name in SHEETS:
        rows, told = book.get_sheet_by_name(name).to_python(), pd.read_csv(ran / "out" / f"{name}.csv")
        assert tuple(rows[0]) == TABLES[name].sheet
        assert len(rows) - 1 == len(told)
    pages = pd.DataFrame(book.get_sheet_by_name("pages").to_python()[1:], columns=TABLES["pages"].sheet)
    whole = pd.read_csv(ran / "out" / "pages.csv").set_index("page")
    assert (pages.set_index("page")["clicks"] == whole["clicks"].reindex(pages["page"])).all()
    act = ~pages["verdict"].isin(["keep", "watch", ""])
    assert act.iloc[: act.sum()].all(), "pages to act on come first"
    meanings = dict(row[:2] for row in book.get_sheet_by_name("definitions").to_python()[1:])
    assert meanings == {column: COLUMN_MEANINGS[column] for name in SHEETS for column in TABLES[name].sheet}


def test_no_cell_runs_and_links_stay_inside(ran: Path, tmp_path: Path) -> None:
    days = pd.date_range("2026-01-01", periods=120).strftime("%Y-%m-%d")
    query = '=HYPERLINK("http://evil.example","x")'
    search = pd.DataFrame(
        {"date": days, "page": "https://tarnbrook.example/a/", "query": query, "clicks": 1, "impressions": 60, "position": 8.0}
    )
    site = nibbet.Site(home="https://tarnbrook.example/", search=search)
    workbook(site)(tmp_path / "hostile.xlsx")
    site.close()
    for path in (tmp_path / "hostile.xlsx", ran / "out" / "workbook.xlsx"):
        with zipfile.ZipFile(path) as packed:
            sheets = [name for name in packed.namelist() if re.match(r"xl/worksheets/sheet\d+\.xml", name)]
            assert len(sheets) == len(SHEETS) + 2
            for name in sheets:
                text = packed.read(name).decode("utf-8")
                assert re.search(r"<f[ >]", text) is None, "a formula"
                assert all("r:id" not in link for link in re.findall(r"<hyperlink [^>]*>", text)), "a link out of the book"


def test_rows_are_as_high_as_their_sentences() -> None:
    shown = pd.DataFrame({"page": ["/a/", "/b/", "/c/"], "because": ["Short.", "A long sentence " * 12, None]})
    assert _heights(shown) == [15.0, 45.0, 15.0], "programs that leave wrapped rows at one line would print them over each other"
