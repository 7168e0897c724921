"""The output files, each written completely or not at all."""

from __future__ import annotations

import json
import os
import tempfile
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from nibbet.errors import SourceError
from nibbet.once import workers
from nibbet.passing import Passing
from nibbet.render.safe import NOTHING_RUNS, UNDATED, for_cells, harmless_cells, large
from nibbet.render.servers import apache, nginx
from nibbet.tables import TABLES

Floats = NDArray[np.float64]
MOST_SHEET_ROWS = 1_048_575
#: rows of a CSV file that are converted at once
ROWS_AT_ONCE = 100_000

if TYPE_CHECKING:
    import pandas as pd

    from nibbet.core.briefs import Brief
    from nibbet.render.drawing import Drawing
    from nibbet.results import Results

    #: the texts of briefs, as topic and text, from a function that writes one for the window shown
    Briefs = Callable[[Callable[[Brief, str], str]], pd.DataFrame]


def write_all(site: Results, folder: Path, briefs: Briefs) -> list[Path]:
    """Every output file in `folder`: all are first written to a temporary folder, then moved over the old ones. briefs: see `Site.briefs`.

    A failure before the last step leaves the old files unchanged; files that are not Nibbet's own are never touched.
    Raises SourceError when the folder is not writable.
    """
    from nibbet.render.drawing import Drawing

    with Drawing(site) as drawing:
        return _write_tables(site, folder, drawing, briefs)


def _write_tables(site: Results, folder: Path, drawing: Drawing, briefs: Briefs) -> list[Path]:
    from nibbet.render.briefs import brief_text, file_name
    from nibbet.render.datapackage import datapackage
    from nibbet.render.drawing import FIGURES
    from nibbet.render.workbook import workbook

    home = site.config.site.home
    tables = {name: site.table(name) for name, one in TABLES.items() if one.file}
    site.say("writing files")
    writers: dict[str, Callable[[Path], None]] = {f"{name}.csv": _csv(frame) for name, frame in tables.items()}
    writers |= {f"{name}.parquet": _parquet(tables[name]) for name, one in TABLES.items() if one.parquet}
    for brief in briefs(brief_text).itertuples():
        writers[f"briefs/{file_name(str(brief.topic))}"] = _text(str(brief.text))
    writers["redirects-nginx.conf"] = _text(nginx(tables["redirects"], home))
    writers["redirects-apache.conf"] = _text(apache(tables["redirects"], home))
    writers["datapackage.json"] = _text(datapackage(tables, home))
    writers["account.json"] = _text(json.dumps(site.account, indent=2, ensure_ascii=False) + "\n")
    writers["workbook.xlsx"] = workbook(site)
    writers["report.html"] = _page(site, drawing)
    for name in FIGURES:
        writers[f"figures/{name}.png"] = _png(drawing, name)
    written = write_files(folder, writers, in_parent=True)
    _take_away_old(folder / "briefs", {path.name: path for path in written if path.parent.name == "briefs"})
    return written


def _take_away_old(folder: Path, written: dict[str, Path]) -> None:
    """Removes files of an earlier run that this one did not write; files changed or added by people stay."""
    from nibbet.engine.digest import digest_of

    record = folder / ".written"
    try:
        before = dict(json.loads(record.read_text("utf-8")))
    except (OSError, ValueError, TypeError):
        before = {}
    for name, digest in before.items():
        path = folder / Path(str(name)).name
        if path.name not in written and path.is_file() and digest_of(path) == digest:
            path.unlink()
    if written or record.exists():
        write_files(
            folder, {record.name: _text(json.dumps({name: digest_of(path) for name, path in sorted(written.items())}, indent=1) + "\n")}
        )


def write_report(site: Results, path: Path) -> Path:
    """Writes only the report; returns its path. Raises SourceError when it is not writable."""
    from nibbet.render.drawing import Drawing

    with Drawing(site) as drawing:
        site.say("writing the report")
        write_files(path.parent, {path.name: _page(site, drawing)})
    return path


def write_files(folder: Path, writers: dict[str, Callable[[Path], None]], *, in_parent: bool = False) -> list[Path]:
    """Runs every writer on a path in a temporary folder, then moves the results to `folder`; returns their paths.

    in_parent: whether the temporary folder is beside `folder` rather than in it, where possible.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        passing = Passing(_place(folder) if in_parent else folder, ".nibbet-writes-")
    except OSError as fault:
        raise SourceError(f"{folder}: cannot be written ({fault.strerror or fault}). Name another folder: --out DIR") from None
    staging = passing.path
    try:
        for name in writers:
            (staging / name).parent.mkdir(exist_ok=True)
        tables = [name for name in writers if name.endswith((".csv", ".parquet"))]
        with ThreadPoolExecutor(1) as pool:  # drawing must use a single thread
            written = [pool.submit(writers[name], staging / name) for name in tables]
            for name in (name for name in writers if name not in tables):
                writers[name](staging / name)
            for one in written:
                one.result()
        for name in writers:
            (folder / name).parent.mkdir(exist_ok=True)
            os.replace(staging / name, folder / name)
    except OSError as fault:
        raise SourceError(
            f"{folder}: writing failed ({fault.strerror or fault}); the files of the last run are kept. Free space or name another folder: --out DIR"
        ) from None
    finally:
        passing.close()
    return [folder / name for name in writers]


def _place(folder: Path) -> Path:
    """The parent of the folder, so that the folder contains only complete files; the folder itself where the two are on different file systems
    or only it is writable.
    """
    parent = folder.resolve().parent
    with tempfile.TemporaryFile(dir=folder):  # it must be writable in any case
        pass
    try:
        with tempfile.TemporaryFile(dir=parent):
            return parent if parent.stat().st_dev == folder.stat().st_dev else folder
    except OSError:
        return folder


def write_table(frame: pd.DataFrame, path: Path) -> None:
    """The frame as a .csv, .parquet or .xlsx file; an existing file is replaced.

    Raises SourceError for another extension, a table too long for a workbook, or a folder that is not writable.
    """
    writers = {".csv": _csv, ".parquet": _parquet, ".xlsx": _workbook}
    if (suffix := path.suffix.lower()) not in writers:
        raise SourceError(f"{path}: the ending says how to write. Use one of: {', '.join(writers)}.")
    write_files(path.parent, {path.name: writers[suffix](frame)})


def _workbook(frame: pd.DataFrame) -> Callable[[Path], None]:
    """A sheet with a frozen header and filters; texts stay texts, whatever they begin with."""
    import pandas as pd

    if len(frame) > MOST_SHEET_ROWS:
        raise SourceError(
            f"{len(frame):,} rows do not fit into a sheet ({MOST_SHEET_ROWS:,} do). Write a .csv or .parquet file, or use --top."
        )

    def write(path: Path) -> None:
        with pd.ExcelWriter(path, engine="xlsxwriter", datetime_format="yyyy-mm-dd", engine_kwargs={"options": NOTHING_RUNS}) as book:
            for_cells(frame).to_excel(book, sheet_name="nibbet", index=False)
            book.book.set_properties(UNDATED)
            book.sheets["nibbet"].freeze_panes(1, 0)
            book.sheets["nibbet"].autofilter(0, 0, len(frame), max(len(frame.columns) - 1, 0))

    return write


def as_csv(frame: pd.DataFrame) -> str:
    """The frame as CSV: ISO dates, empty nulls, true and false, floats to six digits, formulas made harmless."""
    return csv_bytes(frame).decode("utf-8")


def csv_bytes(frame: pd.DataFrame) -> bytes:
    """As `as_csv`, in UTF-8; by whole columns, for millions of rows."""
    import pyarrow as pa

    header = ",".join(_quoted(pa.array([str(name)], pa.large_string()))[0].as_py() for name in frame.columns) + "\n"
    parts = [frame.iloc[at : at + ROWS_AT_ONCE] for at in range(0, len(frame), ROWS_AT_ONCE)]
    with workers() as pool:  # Arrow computes outside the interpreter's lock
        return b"".join([header.encode("utf-8"), *pool.map(_lines, parts)])


def _lines(frame: pd.DataFrame) -> bytes:
    """The rows as lines of a CSV file."""
    import pyarrow as pa
    import pyarrow.compute as pc

    cells = [pc.fill_null(_cell_texts(frame[name]), "") for name in frame.columns]
    lines = pc.binary_join_element_wise(pc.binary_join_element_wise(*cells, large(",")), large("\n"), large(""))
    lines = lines.combine_chunks() if isinstance(lines, pa.ChunkedArray) else lines
    first, last = lines.buffers()[1], len(lines) + lines.offset
    bounds = np.frombuffer(first, dtype=np.int64)[[lines.offset, last]]
    return memoryview(lines.buffers()[2])[bounds[0] : bounds[1]].tobytes()


def _cell_texts(column: pd.Series) -> Any:
    """The cells of a column as in a CSV file; null where missing."""
    import pandas as pd
    import pyarrow as pa
    import pyarrow.compute as pc

    if pd.api.types.is_datetime64_any_dtype(column):
        return pa.array(column.dt.strftime("%Y-%m-%d"), pa.large_string(), from_pandas=True)
    if pd.api.types.is_float_dtype(column):
        return pc.cast(pa.array(_six_digits(column.to_numpy(dtype=float, na_value=np.nan)), from_pandas=True), pa.large_string())
    if pd.api.types.is_bool_dtype(column) or pd.api.types.is_integer_dtype(column):
        return pc.cast(pa.array(column, from_pandas=True), pa.large_string())
    texts = column if isinstance(column.dtype, pd.StringDtype) else column.map(_as_text, na_action="ignore").astype("str")
    array = pa.array(texts, from_pandas=True)
    array = array.combine_chunks() if isinstance(array, pa.ChunkedArray) else array
    return _quoted(harmless_cells(array.cast(pa.large_string())))


def _as_text(value: object) -> str:
    return {True: "true", False: "false"}[bool(value)] if isinstance(value, (bool, np.bool_)) else str(value)


def _six_digits(values: Floats) -> Floats:
    """The values to six significant digits, large ones as whole numbers."""
    size = np.abs(values)
    with np.errstate(divide="ignore", invalid="ignore"):
        digits = np.clip(5 - np.floor(np.log10(size)), 0, 22)
        factor = 10.0 ** np.where(np.isfinite(digits), digits, 0)
        return np.where(np.isfinite(values) & (size > 0), np.round(values * factor) / factor, values)


def _quoted(texts: Any) -> Any:
    """Texts in quotes where they contain a comma, a quote or a line break."""
    import pyarrow.compute as pc

    odd = pc.match_substring_regex(texts, '[",\r\n]')
    if not pc.any(odd).as_py():
        return texts
    return pc.if_else(odd, pc.binary_join_element_wise(large('"'), pc.replace_substring(texts, '"', '""'), large('"'), large("")), texts)


def _csv(frame: pd.DataFrame) -> Callable[[Path], None]:
    def write(path: Path) -> None:
        path.write_bytes(csv_bytes(frame))

    return write


def _text(text: str) -> Callable[[Path], None]:
    def write(path: Path) -> None:
        path.write_text(text, "utf-8", newline="")

    return write


def _png(drawing: Drawing, name: str) -> Callable[[Path], None]:
    def write(path: Path) -> None:
        path.write_bytes(drawing.pictures[name].png)

    return write


def _page(site: Results, drawing: Drawing) -> Callable[[Path], None]:
    from nibbet.render.report import report

    def write(path: Path) -> None:
        _text(report(site, drawing))(path)

    return write


def _parquet(frame: pd.DataFrame) -> Callable[[Path], None]:
    return lambda path: frame.to_parquet(path, index=False)
