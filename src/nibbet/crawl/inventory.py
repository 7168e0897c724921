"""What a crawl found, as tables that the rest of Nibbet reads: pages, links, and what robots.txt and the sitemaps say."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import date
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from numpy.typing import NDArray
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import dijkstra

from nibbet.core.markup import host_of
from nibbet.crawl.crawler import Crawler, unpacked
from nibbet.crawl.frontier import DONE, Frontier, key_of
from nibbet.render.files import write_files

PAGES = pa.schema(
    [
        ("page", pa.string()),
        ("status", pa.int32()),
        ("redirect_to", pa.string()),
        ("canonical", pa.string()),
        ("noindex", pa.string()),
        ("title", pa.string()),
        ("media", pa.string()),
        ("description", pa.string()),
        ("h1", pa.string()),
        ("headings", pa.string()),
        ("words", pa.int32()),
        ("text", pa.string()),
        ("language", pa.string()),
        ("inlinks", pa.int32()),
        ("outlinks", pa.int32()),
        ("depth", pa.int32()),
        ("published", pa.date32()),
        ("modified", pa.date32()),
        ("in_sitemap", pa.string()),
    ]
)
LINKS = pa.schema(
    [("source", pa.string()), ("target", pa.string()), ("anchor", pa.string()), ("follow", pa.string()), ("place", pa.string())]
)
#: rows that are written together
AT_ONCE = 2_000
Ints = NDArray[np.int64]


class Inventory:
    """The tables of a crawl, written beside each other or not at all."""

    def __init__(self, frontier: Frontier, crawler: Crawler) -> None:
        self._frontier, self._crawler = frontier, crawler
        self._number: dict[int, int] = {}
        self._into = self._out = self._depth = np.zeros(0, dtype=np.int64)

    def write(self, folder: Path) -> list[Path]:
        """pages.parquet, links.parquet, and, where the site has them, sitemap.xml (all of them as one) and robots.txt."""
        writers: dict[str, Callable[[Path], None]] = {"links.parquet": self._write_links, "pages.parquet": self._write_pages}
        if self._crawler.sitemap:
            writers["sitemap.xml"] = self._write_sitemap
        robots = self._crawler.robots.get(self._crawler.root)
        if robots is not None and robots.text:
            writers["robots.txt"] = self._write_robots
        self._count()
        return write_files(folder, writers, beside=True)

    def _linked(self) -> Iterator[tuple[str, str, Any, list[Any]]]:
        """address, redirect target, record, links of each address that was answered."""
        for address, _, _, state, _, _, record, links in self._frontier.rows():
            if state == DONE:
                known = unpacked(record) or {}
                yield address, known.get("redirect_to", ""), known, unpacked(links) or []

    def _count(self) -> None:
        """Links in and out of each address, of other pages of the site, and how many links it lies from home."""
        self._number = {key_of(row[0]): n for n, row in enumerate(self._frontier.rows())}
        hosts, here = self._crawler.plan.hosts, self._crawler.here
        starts: list[Ints] = []
        ends: list[Ints] = []
        moves: list[tuple[int, int]] = []
        for address, moved, _, links in self._linked():
            own = self._number[key_of(address)]
            inside = {target for link in links if host_of(target := here(link[0])) in hosts}
            targets = {self._number.get(key_of(target), -1) for target in inside} - {-1, own}
            starts.append(np.full(len(targets), own, dtype=np.int64))
            ends.append(np.fromiter(targets, dtype=np.int64, count=len(targets)))
            if moved and (to := self._number.get(key_of(here(moved)))) is not None:
                moves.append((own, to))
        size = len(self._number)
        start, end = (np.concatenate(part) if part else np.zeros(0, dtype=np.int64) for part in (starts, ends))
        self._into = np.bincount(end, minlength=size)
        self._out = np.bincount(start, minlength=size)
        start, end = np.append(start, [one for one, _ in moves]).astype(np.int64), np.append(end, [to for _, to in moves]).astype(np.int64)
        home = self._number.get(key_of(self._crawler.plan.home))
        self._depth = np.full(size, -1, dtype=np.int64)
        if home is not None and len(start):
            graph = csr_matrix((np.ones(len(start), dtype=np.int8), (start, end)), shape=(size, size))
            far = dijkstra(graph, indices=home, unweighted=True)
            self._depth = np.where(np.isfinite(far), far, -1).astype(np.int64)

    def _write_pages(self, path: Path) -> None:
        sitemap, there = self._crawler.sitemap, self._crawler.there
        with _Rows(path, PAGES) as rows:
            for number, (address, _, sources, state, status, reason, record, _) in enumerate(self._frontier.rows()):
                known = unpacked(record) or {}
                forgotten = (status or 0) >= 400 and not self._into[number] and not sources.strip()
                if (state != DONE and reason != "closed by robots.txt") or forgotten:
                    continue
                words = known.get("words")
                rows.add(
                    there(address), status, there(known.get("redirect_to") or "") or None, there(known.get("canonical") or "") or None,
                    known.get("noindex"),
                    known.get("title") or None, known.get("media") or None, known.get("description") or None, known.get("h1") or None,
                    known.get("headings") or None, words, known.get("text") or None, known.get("language") or None, int(self._into[number]),
                    int(self._out[number]) if words is not None else None, int(self._depth[number]) if self._depth[number] >= 0 else None,
                    _day(known.get("published")), _day(known.get("modified")), ("yes" if address in sitemap else "no") if sitemap else None,
                )  # fmt: skip

    def _write_links(self, path: Path) -> None:
        there = self._crawler.there
        with _Rows(path, LINKS) as rows:
            for address, _, _, links in self._linked():
                for target, anchor, rel, place in links:
                    rows.add(there(address), there(target), anchor or None, "no" if "nofollow" in rel.split() else "yes", place)

    def _write_sitemap(self, path: Path) -> None:
        with path.open("w", encoding="utf-8") as file:
            file.write('<?xml version="1.0" encoding="UTF-8"?>\n<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">\n')
            for address, changed in sorted(self._crawler.sitemap.items()):
                day = f"<lastmod>{changed}</lastmod>" if _day(changed) else ""
                file.write(f"<url><loc>{escape(self._crawler.there(address))}</loc>{day}</url>\n")
            file.write("</urlset>\n")

    def _write_robots(self, path: Path) -> None:
        path.write_text(self._crawler.robots[self._crawler.root].text or "", "utf-8")


class _Rows:
    """Rows into a Parquet file, some thousands at a time."""

    def __init__(self, path: Path, schema: pa.Schema) -> None:
        self._schema = schema
        self._rows: list[list[Any]] = [[] for _ in schema]
        self._file = pq.ParquetWriter(path, schema, compression="zstd")

    def __enter__(self) -> _Rows:
        return self

    def __exit__(self, *_: object) -> None:
        self._flush()
        self._file.close()

    def add(self, *values: Any) -> None:
        for column, value in zip(self._rows, values, strict=True):
            column.append(value)
        if len(self._rows[0]) >= AT_ONCE:
            self._flush()

    def _flush(self) -> None:
        if self._rows[0]:
            self._file.write_table(
                pa.table([pa.array(c, f.type) for c, f in zip(self._rows, self._schema, strict=True)], schema=self._schema)
            )
            self._rows = [[] for _ in self._schema]


def _day(text: str | None) -> date | None:
    try:
        return date.fromisoformat(text[:10]) if text else None
    except ValueError:
        return None
