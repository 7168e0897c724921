"""Writes inventories as Parquet files: their columns and rows."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import date
from pathlib import Path
from typing import Any, Self

import pyarrow as pa
import pyarrow.parquet as pq

PAGES = pa.schema(
    [
        ("page", pa.string()),
        ("status", pa.int32()),
        *(
            (name, pa.string())
            for name in ("redirect_to", "canonical", "parent", "noindex", "noindex_for", "title", "media", "description", "h1", "headings")
        ),
        ("words", pa.int32()),
        ("text", pa.string()),
        ("language", pa.string()),
        ("inlinks", pa.int32()),
        ("outlinks", pa.int32()),
        ("depth", pa.int32()),
        ("published", pa.date32()),
        ("modified", pa.date32()),
        ("in_sitemap", pa.string()),
        ("crawled", pa.date32()),
    ]
)
LINKS = pa.schema(
    [
        *((name, pa.string()) for name in ("source", "target", "anchor", "follow", "place")),
        ("status", pa.int32()),
        ("redirect_to", pa.string()),
        ("silent", pa.string()),
    ]
)
#: rows written together: few long texts, many links
FEW, MANY = 2_000, 100_000


class Rows:
    """Writes rows to a Parquet file in batches; a context manager."""

    def __init__(self, path: Path, schema: pa.Schema) -> None:
        self._schema, self._columns = schema, [list[Any]() for _ in schema]
        self._file = pq.ParquetWriter(path, schema, compression="zstd")

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._flush()
        self._file.close()

    def add(self, row: Mapping[str, Any]) -> None:
        """Adds a row; missing columns and empty texts become null."""
        for known, field in zip(self._columns, self._schema, strict=True):
            known.append(_value(row.get(field.name), field.type))
        if len(self._columns[0]) >= FEW:
            self._flush()

    def _flush(self) -> None:
        arrays = [pa.array(column, field.type) for column, field in zip(self._columns, self._schema, strict=True)]
        self._file.write_table(pa.table(arrays, schema=self._schema))
        self._columns = [[] for _ in self._schema]


def _value(value: Any, kind: pa.DataType) -> Any:
    return day_of(value) if pa.types.is_date(kind) and not isinstance(value, date) else None if value == "" else value


def keep_earlier(folder: Path, today: date) -> None:
    """Keeps an inventory of an earlier day beside its replacement, without its texts, to compare both."""
    path = folder / "pages.parquet"
    try:
        known = pq.ParquetFile(path)
        day = known.read_row_group(0, columns=["crawled"])["crawled"][0].as_py() if "crawled" in known.schema_arrow.names else None
    except (OSError, pa.ArrowException, IndexError):
        return
    if day is None or day >= today:
        return
    kept = folder / f"pages-{day}.parquet"
    partial = kept.with_suffix(".partial")
    pq.write_table(known.read(columns=[name for name in known.schema_arrow.names if name not in ("text", "headings")]), partial)
    partial.replace(kept)


def day_of(text: str | None) -> date | None:
    """The date at the beginning of a text; None without one."""
    try:
        return date.fromisoformat(text[:10]) if text else None
    except ValueError:
        return None


def link_rows(source: str, links: Iterable[tuple[str, str, str, str]]) -> list[dict[str, str]]:
    """The links on a page (target, anchor, rel, place) as rows of LINKS."""
    return [
        {"source": source, "target": target, "anchor": anchor, "follow": "no" if "nofollow" in rel.split() else "yes", "place": place}
        for target, anchor, rel, place in links
    ]
