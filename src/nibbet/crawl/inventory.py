"""What a crawl found, as tables that the rest of Nibbet reads: pages, links, and what robots.txt and the sitemaps say."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path
from xml.sax.saxutils import escape

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import dijkstra

from nibbet.core.markup import SILENT_FOR
from nibbet.crawl.crawler import Crawler, unpacked
from nibbet.crawl.frontier import DONE, Frontier, key_of
from nibbet.render.files import write_files
from nibbet.sources.inventories import LINKS, PAGES, Columns, Rows, day_of, keep_earlier

Ints = NDArray[np.int64]


class Inventory:
    """The tables of a crawl, written beside each other or not at all."""

    def __init__(self, frontier: Frontier, crawler: Crawler) -> None:
        self._frontier, self._crawler, self._day = frontier, crawler, datetime.now(UTC).date()
        self._into = self._out = self._depth = np.zeros(0, dtype=np.int64)

    def write(self, folder: Path) -> list[Path]:
        """pages.parquet, links.parquet, and, where the site has them, sitemap.xml (all of them as one) and robots.txt.

        An inventory of an earlier day stays as pages-DAY.parquet.
        """
        keep_earlier(folder, self._day)
        writers: dict[str, Callable[[Path], None]] = {
            "links.parquet": self._write_links,
            "pages.parquet": self._write_pages,
        }  # in this order
        if self._crawler.sitemap:
            writers["sitemap.xml"] = self._write_sitemap
        if self._robots:
            writers["robots.txt"] = self._write_robots
        return write_files(folder, writers, beside=True)

    @property
    def _robots(self) -> str:
        known = self._crawler.robots.get(self._crawler.root)
        return (known.text if known is not None else None) or ""

    def _write_robots(self, path: Path) -> None:
        path.write_text(self._robots, "utf-8")

    def _write_links(self, path: Path) -> None:
        """The links; counts those in and out of each address, of other pages of the site, and how many links it lies from home."""
        number = {key_of(row[0]): n for n, row in enumerate(self._frontier.rows())}
        known, moved = [(row[3], "", row[4]) for row in self._frontier.rows()], self._crawler.here
        outside, there = self._frontier.outside(), self._crawler.there
        number_of = lru_cache(200_000)(lambda target: number.get(key_of(moved(target)), -1))  # most links lead where many do
        starts: list[Ints] = []
        ends: list[Ints] = []
        moves: list[tuple[int, int]] = []
        with Columns(path, LINKS) as columns:
            for own, (address, _, _, _, _, record, packed) in enumerate(self._frontier.rows()):
                links = unpacked(packed) or []
                to = [number_of(link[0]) for link in links]
                answers = [outside.get(link[0]) or (known[at] if at >= 0 else (None, "", "")) for link, at in zip(links, to, strict=True)]
                columns.extend(
                    [there(address)] * len(links),
                    [there(link[0]) for link in links],
                    [link[1] or None for link in links],
                    ["no" if "nofollow" in link[2].split() else "yes" for link in links],
                    [link[3] for link in links],
                    [answer[0] for answer in answers],
                    [answer[1] or None for answer in answers],
                    [answer[2] if answer[2] in SILENT_FOR else None for answer in answers],
                )
                targets = set(to) - {-1, own}
                starts.append(np.full(len(targets), own, dtype=np.int64))
                ends.append(np.fromiter(targets, dtype=np.int64, count=len(targets)))
                led = (unpacked(record) or {}).get("redirect_to", "")
                if led and (at := number_of(led)) >= 0:
                    moves.append((own, at))
        size = len(number)
        start, end = (np.concatenate(part) if part else np.zeros(0, dtype=np.int64) for part in (starts, ends))
        self._into, self._out = np.bincount(end, minlength=size), np.bincount(start, minlength=size)
        self._depth = np.full(size, -1, dtype=np.int64)
        start = np.append(start, [one for one, _ in moves]).astype(np.int64)
        end = np.append(end, [to for _, to in moves]).astype(np.int64)
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
                if (state != DONE and reason != "closed by robots.txt") or forgotten:
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
