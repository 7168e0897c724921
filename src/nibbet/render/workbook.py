"""workbook.xlsx: one sheet per question; no cell contains a formula."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from nibbet.core.meanings import COLUMN_MEANINGS, FORMAT_OF
from nibbet.core.tables import act_first
from nibbet.render.report import MEANING
from nibbet.render.safe import NOTHING_RUNS, UNDATED, for_cells
from nibbet.tables import SHEETS, TABLES

if TYPE_CHECKING:
    from nibbet.results import Results

#: rows of a sheet, and of those with links to the sheet of pages
MOST_ROWS, MOST_LINKS = 10_000, 5_000
#: height of a line of text in points
LINE = 15.0
WIDTHS = {
    "page": 44,
    "target": 40,
    "from": 44,
    "to": 44,
    "because": 90,
    "also": 60,
    "query": 34,
    "label": 34,
    "title": 44,
    "intended": 28,
    "key": 28,
}
BARS = {"gain": "#8fc1cf", "clicks": "#c9d5db", "volume": "#c9d5db", "weight": "#e6b48c", "shared_impressions": "#c9d5db"}


def workbook(site: Results) -> Callable[[Path], None]:
    """A function that writes the workbook to a path; equal analyses give equal files."""
    tables = {name: site.table(name)[list(TABLES[name].sheet)] for name in SHEETS}
    tables["pages"] = act_first(tables["pages"])
    counts = site.verdicts().groupby("verdict").agg(pages=("page", "size"), gain=("gain", "sum"))

    def write(path: Path) -> None:
        import xlsxwriter

        with xlsxwriter.Workbook(str(path), NOTHING_RUNS) as book:
            book.set_properties({"title": "Nibbet", **UNDATED})
            looks = _looks(book)
            start = book.add_worksheet("start")
            row_of = {page: number + 1 for number, page in enumerate(tables["pages"]["page"].head(MOST_ROWS))}
            for name, table in tables.items():
                _sheet(book, name, table, looks, row_of)
            _definitions(book, looks)
            _start(start, site, tables, counts, looks)

    return write


def _looks(book: Any) -> dict[str, Any]:
    ink = {"font_color": "#22303c", "valign": "top"}
    return {
        "head": book.add_format({"bold": True, "bottom": 1, "bg_color": "#e6edf0", "font_color": "#22303c", "valign": "top"}),
        "right": book.add_format(
            {"bold": True, "bottom": 1, "bg_color": "#e6edf0", "font_color": "#22303c", "valign": "top", "align": "right"}
        ),
        "title": book.add_format({"bold": True, "font_size": 14, "font_color": "#22303c"}),
        "text": book.add_format(ink),
        "wrapped": book.add_format({**ink, "text_wrap": True}),
        "link": book.add_format({**ink, "font_color": "#0b6e8a", "underline": 1}),
        "whole": book.add_format({**ink, "num_format": "#,##0"}),
        "first": book.add_format({**ink, "num_format": "#,##0.0"}),
        "second": book.add_format({**ink, "num_format": "0.00"}),
        "fourth": book.add_format({**ink, "num_format": "0.0000"}),
        "share": book.add_format({**ink, "num_format": "0.0%"}),
        "day": book.add_format({**ink, "num_format": "yyyy-mm-dd"}),
    }


def _kind(name: str, column: pd.Series) -> str:
    """The format of a column."""
    if pd.api.types.is_datetime64_any_dtype(column):
        return "day"
    if not pd.api.types.is_numeric_dtype(column) or pd.api.types.is_bool_dtype(column):
        return "text"
    return FORMAT_OF.get(name, "whole")


def _sheet(book: Any, name: str, table: pd.DataFrame, looks: dict[str, Any], row_of: dict[str, int]) -> None:
    sheet, shown = book.add_worksheet(name), for_cells(table.head(MOST_ROWS))
    for at, column in enumerate(shown.columns):
        kind = _kind(column, table[column])
        sheet.write_string(0, at, column, looks["head" if kind == "text" else "right"])
        if meaning := COLUMN_MEANINGS.get(column):
            sheet.write_comment(0, at, meaning, {"x_scale": 1.6, "y_scale": 0.6})
        sheet.set_column(at, at, max(WIDTHS.get(column, 12), len(column) + 4), looks[_look(column, kind)])
        cells = table[column].head(MOST_ROWS).dt.to_pydatetime() if kind == "day" else shown[column].tolist()
        for row, value in enumerate(cells, start=1):
            _cell(sheet, row, at, value, kind, looks[_look(column, kind)])
        if name != "pages" and column in ("page", "target", "from", "to"):
            for row, page in enumerate(table[column].head(min(MOST_LINKS, MOST_ROWS)), start=1):
                if isinstance(page, str) and page in row_of:
                    sheet.write_url(row, at, f"internal:'pages'!A{row_of[page] + 1}", looks["link"], string=page)
        if column in BARS and len(shown):
            sheet.conditional_format(
                1, at, len(shown), at, {"type": "data_bar", "bar_color": BARS[column], "bar_solid": True, "min_type": "num", "min_value": 0}
            )
    for row, height in enumerate(_heights(shown), start=1):
        if height > LINE:
            sheet.set_row(row, height)
    sheet.freeze_panes(1, 1)
    sheet.autofilter(0, 0, max(len(shown), 1), max(len(shown.columns) - 1, 0))
    _printed(sheet)
    sheet.repeat_rows(0)
    if name == "pages":  # columns that fit a printed page; the others are for the screen
        sheet.print_area(0, 0, max(len(shown), 1), TABLES[name].sheet.index("because"))


def _heights(shown: pd.DataFrame) -> list[float]:
    """The height of each row for its sentences: some programs show wrapped rows with one line."""
    lines = np.ones(len(shown))
    for column in shown.columns:
        if _look(column, "") == "wrapped":
            length = shown[column].astype("str").str.len().fillna(0).to_numpy(float)
            lines = np.maximum(lines, np.ceil(length / (1.04 * WIDTHS.get(column, 12))))
    return [float(height) for height in LINE * lines]


def _printed(sheet: Any) -> None:
    """Fits the sheet to the width of one page."""
    sheet.set_landscape()
    sheet.set_paper(9)
    sheet.fit_to_pages(1, 0)


def _look(name: str, kind: str) -> str:
    return "wrapped" if name in ("because", "also") else kind


def _cell(sheet: Any, row: int, at: int, value: Any, kind: str, look: Any) -> None:
    """Writes a text as text, whatever it begins with; nothing for null."""
    if value is None or pd.isna(value):
        return
    if kind == "text":
        text = {True: "yes", False: "no"}[bool(value)] if isinstance(value, bool) or type(value).__name__ == "bool_" else str(value)
        sheet.write_string(row, at, text[:32_000], look)
    elif kind == "day":
        sheet.write_datetime(row, at, value, look)
    else:
        sheet.write_number(row, at, round(float(value), 6), look)


def _start(sheet: Any, site: Results, tables: dict[str, pd.DataFrame], counts: pd.DataFrame, looks: dict[str, Any]) -> None:
    w = site.windows
    sheet.set_column(0, 0, 18, looks["text"])
    sheet.set_column(1, 2, 12, looks["whole"])
    sheet.set_column(3, 3, 100, looks["text"])
    _printed(sheet)
    sheet.write_string(0, 0, site.config.site.home, looks["title"])
    sheet.write_string(1, 0, f"Recent window {w.recent}, compared with {w.reference}. Gains are extra clicks in 30.4 days.", looks["text"])
    for at, head in enumerate(("verdict", "pages", "gain", "meaning")):
        sheet.write_string(3, at, head, looks["head"])
    row = 4
    for verdict, meaning in MEANING.items():
        if verdict in counts.index:
            sheet.write_string(row, 0, verdict, looks["text"])
            sheet.write_number(row, 1, int(counts["pages"][verdict]), looks["whole"])
            sheet.write_number(row, 2, round(float(counts["gain"][verdict])), looks["whole"])
            sheet.write_string(row, 3, meaning, looks["text"])
            row += 1
    row += 1
    for at, head in enumerate(("sheet", "rows", "", "what it tells")):
        sheet.write_string(row, at, head, looks["head"])
    for name, table in tables.items():
        row += 1
        more = f" (the first {MOST_ROWS:,}; {name}.csv holds all)" if len(table) > MOST_ROWS else ""
        sheet.write_url(row, 0, f"internal:'{name}'!A1", looks["link"], string=name)
        sheet.write_number(row, 1, len(table), looks["whole"])
        sheet.write_string(row, 3, TABLES[name].holds + more, looks["text"])
    sheet.write_url(row + 1, 0, "internal:'definitions'!A1", looks["link"], string="definitions")
    sheet.write_string(row + 1, 3, "what each column means", looks["text"])


def _definitions(book: Any, looks: dict[str, Any]) -> None:
    sheet = book.add_worksheet("definitions")
    sheet.set_column(0, 0, 28, looks["text"])
    sheet.set_column(1, 1, 110, looks["wrapped"])
    sheet.write_string(0, 0, "column", looks["head"])
    sheet.write_string(0, 1, "meaning", looks["head"])
    names = sorted({column for name in SHEETS for column in TABLES[name].sheet})
    for row, name in enumerate(names, start=1):
        sheet.write_string(row, 0, name, looks["text"])
        sheet.write_string(row, 1, COLUMN_MEANINGS.get(name, ""), looks["wrapped"])
    _printed(sheet)
    sheet.freeze_panes(1, 0)
    sheet.autofilter(0, 0, len(names), 1)
