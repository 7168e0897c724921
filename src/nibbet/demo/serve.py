"""Serves the invented site on this machine, with its planted faults, to be crawled."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from html import escape
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from itertools import accumulate, cycle, islice
from threading import Thread
from typing import Any

import pandas as pd

from nibbet.demo.builder import World
from nibbet.demo.exports import HOME
from nibbet.demo.links import links_of
from nibbet.demo.site_files import robots_of, sitemap_of

#: the words in the texts of pages
FILLER = "water bank boat paddle stream launch level season current bend reed weir stone shore ford eddy route gauge permit hire".split()
LIVE = HOME.rstrip("/")


class Pages:
    """The responses of the server: (status, headers, body) by path."""

    def __init__(self, world: World) -> None:
        self._world, self._pages = world, world.pages.set_index("path", drop=False)
        links = links_of(world)
        self._links = {str(path): rows for path, rows in links.groupby("source", sort=False)}

    def answer(self, path: str) -> tuple[int, dict[str, str], bytes]:
        """The response to a path."""
        if path == "/robots.txt":
            return 200, {"Content-Type": "text/plain"}, robots_of(self._world, LIVE).encode()
        if path == "/sitemap.xml":
            return 200, {"Content-Type": "application/xml"}, sitemap_of(self._world, LIVE).encode()
        bare = path.partition("?")[0]
        known = bare if bare in self._pages.index else bare.rstrip("/") + "/"
        if known not in self._pages.index:
            return 404, {"Content-Type": "text/html; charset=utf-8"}, b"<title>Not found</title><h1>Not found</h1>"
        page: Any = self._pages.loc[known]
        if known != bare:
            return 301, {"Location": known}, b""
        if page["redirect_path"]:
            return int(page["status"]), {"Location": page["redirect_path"]}, b""
        if page["status"] != 200:
            return int(page["status"]), {"Content-Type": "text/html; charset=utf-8"}, b"<title>Gone</title><h1>Gone</h1>"
        body = self._html(page).encode()
        return 200, {"Content-Type": "text/html; charset=utf-8", "ETag": f'"{known}{len(body)}"'}, body

    def _html(self, page: pd.Series) -> str:
        path, links = page["path"], self._links[page["path"]]
        of_place = {name: rows for name, rows in links.groupby("place")}
        inner = of_place.get("main", links.head(0))
        headings = [text for text in str(page["headings"]).split("|") if text]
        lines = [page["h1"], *headings]
        left = max(int(page["words"]) - sum(len(text.split()) for text in lines) - sum(len(text.split()) for text in inner["anchor"]), 0)
        words = " ".join(islice(cycle(FILLER), left))
        day = "" if page["undated"] else f'<meta property="article:published_time" content="{page["published"]}">'
        drawn = {
            name: [f'<a href="{escape(to)}">{escape(text)}</a>' for to, text in zip(rows["target"], rows["anchor"], strict=True)]
            for name, rows in of_place.items()
        }
        listed = "".join(f"<li>{one}</li>" for one in drawn.get("main", []))
        return (
            f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{escape(page["title"])}</title>'
            f'<meta name="description" content="{escape(page["description"])}"><link rel="canonical" href="{escape(LIVE + path)}">'
            f'<meta name="robots" content="{"noindex" if page["noindex"] else "index"}">{day}{_trail(path)}</head>'
            f"<body><header><nav>{''.join(drawn['navigation'])}</nav></header><main><h1>{escape(page['h1'])}</h1>"
            f"{''.join(f'<h2>{escape(text)}</h2>' for text in headings)}<p>{words}</p><ul>{listed}</ul></main>"
            f"<footer>{''.join(drawn['footer'])}</footer></body></html>"
        )


def _trail(path: str) -> str:
    """The breadcrumbs of a page as structured data: home, section, itself."""
    steps = list(accumulate((f"{part}/" for part in path.split("/") if part), initial="/"))
    items = [{"@type": "ListItem", "position": at, "item": LIVE + step} for at, step in enumerate(steps, 1)]
    data = {"@context": "https://schema.org", "@type": "BreadcrumbList", "itemListElement": items}
    return f'<script type="application/ld+json">{json.dumps(data)}</script>'


@contextmanager
def serving(world: World, port: int = 0) -> Iterator[str]:
    """Serve the site while the context lasts and yield its address; port 0 is any free port."""
    pages = Pages(world)

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            status, headers, body = pages.answer(self.path)
            if headers.get("ETag") and self.headers.get("If-None-Match") == headers["ETag"]:
                status, body = 304, b""
            self.send_response(status)
            for name, value in headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            """Say nothing."""

    class Server(ThreadingHTTPServer):
        def handle_error(self, *_: object) -> None:
            """Ignore clients that disconnect."""

    server = Server(("127.0.0.1", port), Handler)
    thread = Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}/"
    finally:
        server.shutdown()
        server.server_close()
