"""Counts the records of a delimited file by a plain scan of its bytes, to check that no reader loses a row."""

from __future__ import annotations

import csv
from itertools import islice
from pathlib import Path

import numpy as np

from nibbet.engine.digest import spans

#: longest cell in characters
LONGEST_CELL = 12_000_000
QUOTE, NEWLINE, RETURN = 34, 10, 13


def line_count(path: Path) -> int:
    """The lines of a file, with or without a final line end."""
    lines, last = 0, NEWLINE
    for span in spans(path):
        view = np.frombuffer(span, np.uint8)
        lines += int(np.count_nonzero(view == NEWLINE))
        last = int(view[-1]) if len(view) else last
    return lines + (last != NEWLINE)


def record_count(path: Path, *, skip: int, blank_is_row: bool) -> int:
    """The records below the first `skip` lines, where line ends inside quotes end none; blank lines count if `blank_is_row`.

    Assumes that quotes come in pairs, as in every well-formed file; see `exact_record_count` for others.
    """
    records, inside, line, length = 0, 0, 0, 0
    empty = True
    for span in spans(path):
        view = np.frombuffer(span, np.uint8)
        ends = np.flatnonzero(view == NEWLINE)
        before = np.cumsum(view == QUOTE)[ends] + inside if len(ends) else ends
        lengths = np.diff(ends, prepend=-1 - length) - 1
        marks = (ends > 0) & (view[np.maximum(ends - 1, 0)] == RETURN)
        blank = lengths - marks <= 0
        outside = before % 2 == 0
        ignored = max(0, skip - line)
        counts = outside & (blank_is_row | ~blank)
        records += int(counts[ignored:].sum())
        inside += int(np.count_nonzero(view == QUOTE))
        length = len(view) - 1 - int(ends[-1]) if len(ends) else length + len(view)
        line += len(ends)
        empty = length == 0
    return records + (not empty and line >= skip)


def exact_record_count(path: Path, *, skip: int, delimiter: str, blank_is_row: bool) -> tuple[int, int | None]:
    """The records below the first `skip` lines, and the line of an unclosed quote (None where all are closed)."""
    limit = csv.field_size_limit(LONGEST_CELL)
    try:
        with path.open(encoding="utf-8", errors="replace", newline="") as file:
            for _ in islice(file, skip):
                pass
            reader = csv.reader(file, delimiter=delimiter)
            records, began, row = 0, 0, [""]
            while True:
                start = reader.line_num
                try:
                    row = next(reader)
                except StopIteration:
                    break
                except csv.Error:  # a cell beyond the limit: an unclosed quote
                    return records, skip + start + 1
                began = start
                records += bool(row) or blank_is_row
            unclosed = bool(row) and row[-1].endswith("\n") and reader.line_num - began > 1
            return records, skip + began + 1 if unclosed else None
    finally:
        csv.field_size_limit(limit)
