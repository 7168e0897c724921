"""The files of an analysis, each written whole or not at all."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from nibbet.errors import SourceError
from nibbet.render.safe import for_cells

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
