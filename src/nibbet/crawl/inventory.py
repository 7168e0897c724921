"""The result of a crawl as tables for the rest of Nibbet: pages, links, robots.txt and sitemaps."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path
from typing import Any, Self
from xml.sax.saxutils import escape

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
from numpy.typing import NDArray
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import dijkstra

from nibbet.core.markup import SILENT_FOR
from nibbet.crawl.crawler import Crawler, links_of, unpacked
from nibbet.crawl.frontier import DONE, Frontier, key_of
from nibbet.render.files import write_files
from nibbet.sources.inventories import LINKS, MANY, PAGES, Rows, day_of, keep_earlier

Ints = NDArray[np.int64]
#: of addresses of other hosts: status, redirect target, reason
Outside = dict[str, tuple[int | None, str, str]]


class Inventory:
    """The tables of a crawl, written all together or not at all."""

    def __init__(self, frontier: Frontier, crawler: Crawler) -> None:
        self._frontier, self._crawler, self._day = frontier, crawler, datetime.now(UTC).date()
        self._into = self._out = self._depth = np.zeros(0, dtype=np.int64)

    def write(self, folder: Path) -> list[Path]:
        """pages.parquet, links.parquet, and, where the site has them, sitemap.xml (all sitemaps in one) and robots.txt.

        An inventory of an earlier day stays as pages-DAY.parquet.
        """
        keep_earlier(folder, self._day)
        # in this order
        writers: dict[str, Callable[[Path], None]] = {
            "links.parquet": self._write_links,
            "pages.parquet": self._write_pages,
        }
        if self._crawler.sitemap:
            writers["sitemap.xml"] = self._write_sitemap
        if self._robots:
            writers["robots.txt"] = self._write_robots
        return write_files(folder, writers, in_parent=True)

    @property
    def _robots(self) -> str:
        known = self._crawler.robots.get(self._crawler.root)
        return (known.text if known is not None else None) or ""

    def _write_robots(self, path: Path) -> None:
        path.write_text(self._robots, "utf-8")

    def _write_links(self, path: Path) -> None:
        """Writes the links; counts those in and out of each address, of other pages of the site, and its depth from the home page."""
        answers = list(self._frontier.answers())
        number, size, moved = {key_of(address): n for n, (address, _, _) in enumerate(answers)}, len(answers), self._crawler.here
        number_of = lru_cache(200_000)(lambda target: number.get(key_of(moved(target)), -1))  # most links have popular targets
        edges, led = [np.zeros(0, dtype=np.int64)], list[tuple[int, int]]()  # an edge: number of its page x pages + that of its target
        there = self._crawler.there if self._crawler.plan.stands_for else None
        with _Links(path, answers, self._frontier.outside(), there) as links:
            for source, (*_, packed) in enumerate(self._frontier.rows()):
                *columns, leads_to = links_of(packed)
                links.add(source, list(map(number_of, columns[0])), *columns)
                if links.are_many:
                    edges.append(links.flush())
                if leads_to and (at := number_of(leads_to)) >= 0:
                    led.append((source, at))
            edges.append(links.flush())
        start, end = np.divmod(np.concatenate(edges), max(size, 1))
        self._into, self._out = np.bincount(end, minlength=size), np.bincount(start, minlength=size)
        self._depth = np.full(size, -1, dtype=np.int64)
        start = np.append(start, [one for one, _ in led]).astype(np.int64)
        end = np.append(end, [to for _, to in led]).astype(np.int64)
        starts_at = [number[key] for key in map(key_of, self._crawler.plan.starts) if key in number]
        if starts_at and len(start):
            graph = csr_matrix((np.ones(len(start), dtype=np.int8), (start, end)), shape=(size, size))
            far = dijkstra(graph, indices=starts_at, unweighted=True, min_only=True)
            self._depth = np.where(np.isfinite(far), far, -1).astype(np.int64)

    def _write_pages(self, path: Path) -> None:
        sitemap, there = self._crawler.sitemap, self._crawler.there
        with Rows(path, PAGES) as rows:
            for number, (address, named, state, status, reason, record, _) in enumerate(self._frontier.rows()):
                known = unpacked(record) or {}
                forgotten = (status or 0) >= 400 and not self._into[number] and not named
                if (state != DONE and reason != "blocked by robots.txt") or forgotten:
                    continue
                more = {"page": there(address), "status": status, "inlinks": int(self._into[number]), "crawled": self._day}
                more |= {name: there(known.get(name) or "") for name in ("redirect_to", "canonical", "parent")}
                if "words" in known:
                    more["outlinks"] = int(self._out[number])
                if self._depth[number] >= 0:
                    more["depth"] = int(self._depth[number])
                if sitemap:
                    more["in_sitemap"] = "yes" if address in sitemap else "no"
                rows.add({**known, **more})

    def _write_sitemap(self, path: Path) -> None:
        with path.open("w", encoding="utf-8") as file:
            file.write('<?xml version="1.0" encoding="UTF-8"?>\n<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">\n')
            for address, changed in sorted(self._crawler.sitemap.items()):
                day = f"<lastmod>{changed}</lastmod>" if day_of(changed) else ""
                file.write(f"<url><loc>{escape(self._crawler.there(address))}</loc>{day}</url>\n")
            file.write("</urlset>\n")


class _Links:
    """Writes the file of links in batches; a context manager.

    answers: address, status and reason of every address, by its number; outside: answers of addresses of other hosts; there: an address as
    in the inventory; None for unchanged.
    """

    def __init__(
        self, path: Path, answers: list[tuple[str, int | None, str]], outside: Outside, there: Callable[[str], str] | None
    ) -> None:
        self._file, self._outside = pq.ParquetWriter(path, LINKS, compression="zstd"), outside
        self._named: Callable[[list[str]], Iterable[str]] = (lambda addresses: map(there, addresses)) if there else iter
        self._pages = pa.array(self._named([address for address, _, _ in answers]), pa.string())
        self._status = pa.array([status for _, status, _ in answers], pa.int32())
        self._silent = pa.array([_silent(reason) for _, _, reason in answers], pa.string())
        self._size = len(answers)
        self._clear()

    def _clear(self) -> None:
        self._links: tuple[list[Any], ...] = ([], [], [], [], [])  # number of the target, target, anchor, rel, place
        self._counts: list[tuple[int, int]] = []  # number of the page, its number of links

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def add(self, page: int, *columns: list[Any]) -> None:
        """Adds the links of a page: numbers of their targets (-1 for none), targets, anchors, rels, places."""
        self._counts.append((page, len(columns[0])))
        for known, more in zip(self._links, columns, strict=True):
            known += more

    @property
    def are_many(self) -> bool:
        """Whether the batch is full."""
        return len(self._links[0]) >= MANY

    def flush(self) -> Ints:
        """Writes the batch; returns its pairs of different pages, each once, as number of the page x pages + number of its target."""
        number, targets, anchors, rels, places = self._links
        source, count = np.array(self._counts, dtype=np.int64).reshape(-1, 2).T
        start, to = np.repeat(source, count), np.array(number, dtype=np.int64)
        at = pa.array(to, mask=to < 0)
        status, moved, silent = self._status.take(at), pa.nulls(len(to), pa.string()), self._silent.take(at)
        if self._outside and targets:
            answers = list(map(self._outside.get, targets))
            elsewhere = pa.array([answer is not None for answer in answers], pa.bool_())
            columns = zip(*(answer or (None, "", "") for answer in answers), strict=True)
            status = pc.if_else(elsewhere, pa.array(next(columns), pa.int32()), status)
            moved = pa.array([one or None for one in next(columns)], pa.string())
            silent = pc.if_else(elsewhere, pa.array(map(_silent, next(columns)), pa.string()), silent)
        anchor = pa.array(anchors, pa.string())
        closed = pc.match_substring_regex(pa.array(rels, pa.string()), r"(^|\s)nofollow(\s|$)")
        arrays = [
            self._pages.take(pa.array(start)), pa.array(self._named(targets), pa.string()),
            pc.if_else(pc.equal(anchor, ""), None, anchor), pc.if_else(closed, "no", "yes"), pa.array(places, pa.string()), status, moved, silent,
        ]  # fmt: skip
        self._file.write_table(pa.table(arrays, schema=LINKS))
        self._clear()
        other = (to >= 0) & (to != start)
        pairs: Ints = pc.unique(pa.array(start[other] * self._size + to[other])).to_numpy()
        return pairs


def _silent(reason: str) -> str | None:
    return reason if reason in SILENT_FOR else None
