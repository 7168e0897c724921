"""The files of an analysis, each written whole or not at all."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from nibbet.errors import SourceError
from nibbet.render.safe import for_cells

MOST_SHEET_ROWS = 1_048_575

if TYPE_CHECKING:
    import pandas as pd

    from nibbet.site import Site


def write_all(site: Site, folder: Path) -> list[Path]:
    """Every file of the analysis in `folder`: first all in a folder beside their places, then each moved over the old one.

    A failure before the last step leaves the old files as they were; files that are not Nibbet's own are never touched.
    Raises SourceError when the folder cannot be written.
    """
    from nibbet.render.report import report

    tables = {
        "addresses": site.addresses,
        "pages": site.pages(),
        "queries": site.queries(),
        "openings": site.openings(),
        "evidence": site.evidence(),
        "groups": site.groups(),
        "redirects": site.redirects(),
    }
    writers: dict[str, Callable[[Path], None]] = {f"{name}.csv": _csv(frame) for name, frame in tables.items()}
    writers |= {f"{name}.parquet": _parquet(tables[name]) for name in ("pages", "queries")}
    writers["account.json"] = _text(json.dumps(site.account, indent=2, ensure_ascii=False) + "\n")
    writers["report.html"] = _text(report(site))
    return write_files(folder, writers)


def write_files(folder: Path, writers: dict[str, Callable[[Path], None]]) -> list[Path]:
    """Run every writer on a path in a folder of its own, then move the results to `folder`; returns where they lie."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        staging = Path(tempfile.mkdtemp(prefix=".nibbet-", dir=folder))
    except OSError as fault:
        raise SourceError(f"{folder}: cannot be written ({fault.strerror or fault}). Name another folder: --out DIR") from None
    try:
        for name, write in writers.items():
            write(staging / name)
        for name in writers:
            os.replace(staging / name, folder / name)
    except OSError as fault:
        raise SourceError(
            f"{folder}: writing failed ({fault.strerror or fault}); the files of the last run are kept. Free space or name another folder: --out DIR"
        ) from None
    finally:
        shutil.rmtree(staging, ignore_errors=True)
    return [folder / name for name in writers]


def write_table(frame: pd.DataFrame, path: Path) -> None:
    """The frame as a .csv, .parquet or .xlsx file, whole or not at all; a file of that name is replaced.

    Raises SourceError for another ending, a table too long for a workbook, or a folder that cannot be written.
    """
    writers = {".csv": _csv, ".parquet": _parquet, ".xlsx": _workbook}
    if (suffix := path.suffix.lower()) not in writers:
        raise SourceError(f"{path}: the ending says how to write. Use one of: {', '.join(writers)}.")
    write_files(path.parent, {path.name: writers[suffix](frame)})


def _workbook(frame: pd.DataFrame) -> Callable[[Path], None]:
    """A sheet with a frozen, filtered header; texts are texts, whatever they begin with."""
    import pandas as pd

    if len(frame) > MOST_SHEET_ROWS:
        raise SourceError(
            f"{len(frame):,} rows do not fit into a sheet ({MOST_SHEET_ROWS:,} do). Write a .csv or .parquet file, or use --top."
        )
    options = {"strings_to_formulas": False, "strings_to_urls": False, "strings_to_numbers": False}

    def write(path: Path) -> None:
        with pd.ExcelWriter(path, engine="xlsxwriter", datetime_format="yyyy-mm-dd", engine_kwargs={"options": options}) as book:
            for_cells(frame).to_excel(book, sheet_name="nibbet", index=False)
            book.book.set_properties({"created": datetime(2000, 1, 1)})  # equal tables give equal files
            book.sheets["nibbet"].freeze_panes(1, 0)
            book.sheets["nibbet"].autofilter(0, 0, len(frame), max(len(frame.columns) - 1, 0))

    return write


def as_csv(frame: pd.DataFrame) -> str:
    """The frame as CSV: ISO dates, empty nulls, true and false, floats to six digits, no cell that a spreadsheet runs."""
    out = frame.copy()
    for name in out.columns:
        kind = str(out[name].dtype)
        if kind in ("bool", "boolean"):
            out[name] = out[name].map({True: "true", False: "false"})
        elif kind.startswith("datetime"):
            out[name] = out[name].dt.strftime("%Y-%m-%d")
    return for_cells(out).to_csv(index=False, lineterminator="\n", float_format="%.6g")


def _csv(frame: pd.DataFrame) -> Callable[[Path], None]:
    return lambda path: path.write_text(as_csv(frame), "utf-8", newline="") and None


def _text(text: str) -> Callable[[Path], None]:
    return lambda path: path.write_text(text, "utf-8", newline="") and None


def _parquet(frame: pd.DataFrame) -> Callable[[Path], None]:
    return lambda path: frame.to_parquet(path, index=False)
