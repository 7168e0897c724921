"""Finds the header of a table in rows of cells, in one row or two, and tables below each other."""

from __future__ import annotations

import re
from collections import Counter
from typing import Any

from nibbet.sources.periods import Period, full_years, period_in, without_period
from nibbet.sources.profile import NUMBER, is_date

#: rows in which tables below each other are searched
MOST_ROWS_OF_BLOCKS = 20_000


def header_row(rows: list[list[Any]]) -> int | None:
    """The index of the header: the first full row of words above rows of the same width; None without one."""
    filled = [sum(1 for cell in row if str(cell).strip()) for row in rows[:200]]
    wide = Counter(width for width in filled if width).most_common()
    if not wide:
        return None
    usual = max(wide, key=lambda item: (item[1], item[0]))[0]
    for place, row in enumerate(rows[:60]):
        cells = [str(cell).strip() for cell in row if str(cell).strip()]
        if cells and cells[0].startswith("#"):
            continue
        enough = len(cells) >= max(1, min(usual, 2)) and len(row) >= max(len(r) for r in rows[place : place + 30]) * 0.6
        if _is_header_of_periods(cells) and enough:
            return place
        under_periods = place > 0 and len(_periods(rows[place - 1])) > 1
        repeats = len(set(cells)) < len(cells) * 0.45 and not under_periods
        if not enough or repeats or any(_is_value(cell) for cell in cells):
            continue
        if usual > 2 and len(cells) <= usual / 2:
            continue  # a title, a setting, or the upper of two header rows
        return place
    return None


def _periods(row: list[str]) -> list[Period]:
    """The distinct days, months or quarters in the cells of a row."""
    return list(dict.fromkeys(period for cell in full_years(row) if (period := period_in(cell)) is not None))


def bare_periods(cells: list[str]) -> list[str]:
    """The cells that contain a period and nothing else."""
    return [cell for cell in full_years(cells) if period_in(cell) is not None and not re.search(r"[^\W\d_]{3,}", without_period(cell))]


def _is_header_of_periods(cells: list[str]) -> bool:
    """Whether a row heads a table with a column for each of several months: a word, then months and little else."""
    cells = full_years(cells)
    months = bare_periods(cells)
    others = [cell for cell in cells if cell not in months]
    return len(months) >= 2 and 0 < len(others) <= 3 and cells[0] in others and not any(map(_is_value, others))


def _is_value(cell: str) -> bool:
    """A cell that no header would contain: a number, a date or an address."""
    if NUMBER.match(cell) or "://" in cell or re.match(r"/\S*$", cell):
        return True
    return is_date(cell) and not re.search(r"[^\W\d_]{3,}", without_period(cell))


def first_row_of_values(rows: list[list[str]]) -> int | None:
    """The index of the first row of a table without headers: the first as wide as most, if it holds values; None without one."""
    widths = Counter(len(row) for row in rows[:200]).most_common(1)
    if not widths or widths[0][0] < 2 or len(rows) < 2:
        return None
    first = next(place for place, row in enumerate(rows) if len(row) == widths[0][0])
    cells = [cell.strip() for cell in rows[first] if cell.strip()]
    return first if len(cells) >= 2 and sum(map(_is_value, cells)) >= 2 else None


def header_cells(rows: list[list[str]], head: int) -> list[str]:
    """The header; of two header rows, each cell is joined with the one above: a window over its measures."""
    header = [str(cell).strip() for cell in rows[head]]
    above = [str(cell).strip() for cell in rows[head - 1]] if head else []
    named = [cell for cell in above if cell]
    repeated = len(set(filter(None, header))) < len([cell for cell in header if cell])
    if (
        not named
        or len(above) < len(header) / 2
        or above[0].startswith("#")
        or not (repeated or sum(period_in(cell) is not None for cell in named) > 1)
    ):
        return header
    upper, label = [], ""
    for place in range(len(header)):
        label = above[place] if place < len(above) and above[place] else label
        upper.append(label)
    return [f"{over} {cell}".strip() for over, cell in zip(upper, header, strict=True)]


def with_row_names(header: list[str], body: list[list[str]]) -> list[str]:
    """The header with a name for an unnamed first column of row names or numbers, as statistical programs write tables."""
    rows = [row for row in body if row]
    names = {row[0] for row in rows}
    named = len(rows) > 1 and len(names) == len(rows) and all(len(row) == len(header) + 1 for row in rows)
    return ["row", *header] if named and any(row[-1].strip() for row in rows) else header


def blocks(rows: list[list[str]]) -> list[tuple[list[str], list[list[str]], list[str]]]:
    """The tables below each other in rows of cells: header, rows, and the lines above each; at most one without separating blank rows."""
    groups: list[list[list[str]]] = [[]]
    for row in rows:
        if any(str(cell).strip() for cell in row):
            groups[-1].append(row)
        elif groups[-1]:
            groups.append([])
    result: list[tuple[list[str], list[list[str]], list[str]]] = []
    lines: list[str] = []
    for group in filter(None, groups):
        head = header_row(group)
        body = group[head + 1 :] if head is not None else group
        fresh = head is not None and bool(body) and any(_is_value(str(cell).strip()) for row in body[:5] for cell in row)
        if fresh and head is not None:
            result.append((header_cells(group, head), body, [*lines, *(" ".join(map(str, row)) for row in group[:head])]))
            lines = []
        elif result and len(group[0]) == len(result[-1][0]) and sum(1 for cell in group[0] if str(cell).strip()) > 1:
            result[-1][1].extend(group)  # rows of the same table after a blank line
        else:
            lines += [" ".join(map(str, row)) for row in group]
    return result


def fitted(row: list[str], width: int) -> list[str]:
    """The row with exactly `width` cells, padded with empty ones."""
    return (row + [""] * width)[:width]
