"""How fast is the crawl, beside a general crawling framework's plain link extractor over the same site in the same run?

    python benchmarks/crawl.py [PAGES] [PYTHON_WITH_SCRAPY]

The site is made up: PAGES pages (2,000) of 100 links each, served on this machine by a process of its own. Asked: at least as fast as Scrapy.
"""

from __future__ import annotations

import asyncio
import multiprocessing
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

LINKS = 100
SPIDER = """
import scrapy, sys
from scrapy.crawler import CrawlerProcess
from scrapy.linkextractors import LinkExtractor
from scrapy.spiders import CrawlSpider, Rule
class Spider(CrawlSpider):
    name = "all"
    start_urls = [sys.argv[1]]
    count = 0
    rules = [Rule(LinkExtractor(), callback="seen", follow=True)]
    def seen(self, response):
        Spider.count += 1
process = CrawlerProcess({"LOG_ENABLED": False, "CONCURRENT_REQUESTS": 8, "CONCURRENT_REQUESTS_PER_DOMAIN": 8, "ROBOTSTXT_OBEY": True, "DOWNLOAD_DELAY": 0, "TELNETCONSOLE_ENABLED": False})
process.crawl(Spider)
process.start()
print(Spider.count)
"""


def page(number: int, pages: int) -> bytes:
    """A page of 100 links and 300 words."""
    links = "".join(
        f'<li><a href="/p/{(number * 101 + n * 13 + n * n + 1) % pages}">Link {n} of page {number}</a></li>' for n in range(LINKS)
    )
    words = "water bank boat paddle stream launch level season current bend " * 30
    return f"<!doctype html><html><head><title>Page {number}</title></head><body><main><h1>Page {number}</h1><p>{words}</p><ul>{links}</ul></main></body></html>".encode()


def serve(pages: int, told: object) -> None:
    """Serve the site until killed; its address goes to `told`."""

    async def talk(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while head := await reader.readuntil(b"\r\n\r\n"):
                path = head.split(b" ", 2)[1].decode()
                if path == "/" or path.startswith("/p/"):
                    body, status = page(0 if path == "/" else int(path[3:]), pages), b"200 OK"
                else:
                    body, status = b"", b"404 Not Found"
                writer.write(b"HTTP/1.1 " + status + b"\r\nContent-Type: text/html\r\nContent-Length: %d\r\n\r\n" % len(body) + body)
                await writer.drain()
        except (asyncio.IncompleteReadError, ConnectionError):
            writer.close()

    async def run() -> None:
        server = await asyncio.start_server(talk, "127.0.0.1", 0)
        told.put(f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/")  # type: ignore[attr-defined]
        await server.serve_forever()

    asyncio.run(run())


def main(pages: int, other: str | None) -> None:
    """Print pages a second of both."""
    told: multiprocessing.Queue[str] = multiprocessing.Queue()
    server = multiprocessing.Process(target=serve, args=(pages, told), daemon=True)
    server.start()
    url, folder = told.get(), Path(tempfile.mkdtemp())
    try:
        begun = time.perf_counter()
        subprocess.run([sys.executable, "-m", "nibbet", "crawl", url, str(folder), "-q"], check=True, stdout=subprocess.DEVNULL)
        ours = time.perf_counter() - begun
        import pyarrow.parquet as pq

        pages = pq.ParquetFile(folder / "crawl" / "pages.parquet").metadata.num_rows
        memory = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        print(
            f"nibbet crawl: {pages:,} pages, {pages * LINKS:,} links in {ours:.1f} s, {pages / ours:.0f} pages a second, inventory written, peak {memory:,.0f} MB"
        )
        if other:
            begun = time.perf_counter()
            count = int(subprocess.run([other, "-c", SPIDER, url], check=True, capture_output=True, text=True).stdout.split()[-1])
            theirs = time.perf_counter() - begun
            print(
                f"Scrapy's link extractor: {count:,} pages in {theirs:.1f} s, {count / theirs:.0f} pages a second; nibbet is {pages / ours / (count / theirs):.2f} times as fast"
            )
    finally:
        server.terminate()
        shutil.rmtree(folder)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 2000, sys.argv[2] if len(sys.argv) > 2 else None)
