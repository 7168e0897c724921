"""Draws figures in a separate process, in parallel with computing; the result is the same as in this process."""

from __future__ import annotations

import contextlib
import pickle
import sys
from collections import deque
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple, Self

from nibbet.render import canvas, figures, painter

if TYPE_CHECKING:
    from subprocess import Popen

    from nibbet.results import Results

#: figures that the other process holds at a time: the one that it draws, and the next
SENT_AHEAD = 2


class Picture(NamedTuple):
    """One figure as an SVG element and as the bytes of a PNG file."""

    svg: str
    png: bytes


#: the figures of a run: the function of `render.figures` for each, and its arguments; in the order of computation
FIGURES: dict[str, tuple[str, Callable[[Results], tuple[Any, ...]]]] = {
    "trend": ("trend", lambda site: (site.days, site.windows)),
    "curve": ("ctr_curve", lambda site: (site.curve, site.pages()[["position", "impressions", "ctr"]], site.windows)),
    "verdicts": ("verdict_overview", lambda site: (site.pages()[["section", "verdict"]],)),
    "positions": ("positions", lambda site: (_queries(site), site.openings(), site.windows)),
    "groups": ("rivals", lambda site: (site.groups(), site.pages()[["page", "clicks"]])),
    "topics": ("topics_open", lambda site: (site.topics(),)),
    "topic_map": ("topic_map", lambda site: (site.topics(),)),
    "seasons": ("season_ahead", lambda site: (site.seasons(),)),
    "links": ("link_flows", lambda site: (site.link_flows(),)),
    "movers": ("movers", lambda site: (_changed_pages(site), site.windows)),
}


def _changed_pages(site: Results) -> Any:
    """The changes of pages; pages that moved are compared with their old addresses."""
    changes = site.compare()
    return changes[(changes["level"].eq("page") & changes["why"].ne("moved")) | changes["level"].eq("moved page")]


def _queries(site: Results) -> Any:
    """The rows and columns of the query map that the figure shows."""
    rows = site.queries()[["query", "page", "position", "impressions"]]
    return rows[rows["impressions"] >= figures.LEAST_SHOWN]


def draw(name: str, function: str, given: tuple[Any, ...]) -> Picture:
    """Draws one figure: laid out once, for the page and for the file."""
    figure = getattr(figures, function)(*given)
    svg = canvas.as_svg(figure, name)
    figure.set_layout_engine("none")
    return Picture(svg, canvas.as_png(figure))


class Drawing:
    """The figures of a site, drawn on another core, if there is one, as soon as their tables are available."""

    def __init__(self, site: Results) -> None:
        self._asked: dict[str, tuple[str, tuple[Any, ...]]] = {}
        self._unsent: deque[str] = deque()
        self._under_way = 0
        self._painter = painter.take()
        self._writes, self._reads = ThreadPoolExecutor(1), ThreadPoolExecutor(1)
        self._drawn = None if self._painter is None else self._reads.submit(self._receive, self._painter)
        try:
            for name, (function, given) in FIGURES.items():
                self._asked[name] = (function, given(site))
                self._unsent.append(name)
                self._writes.submit(self._send)
        except BaseException:
            self.close()
            raise

    def _send(self, returned: int = 0) -> None:
        """Sends figures to the other process until it has one to draw and the next; always called by the same thread.

        returned: how many have come back since the last call.
        """
        self._under_way -= returned
        with contextlib.suppress(IndexError):
            while self._painter is not None and self._under_way < SENT_AHEAD:
                name = self._unsent.popleft()
                self._under_way += 1
                painter.send(self._painter, (name, *self._asked[name]))

    def _receive(self, process: Popen[bytes]) -> dict[str, Picture]:
        """The figures that the other process has drawn; for each, it is sent another one."""
        drawn = {}
        for name, picture in painter.messages(process.stdout):
            drawn[name] = picture
            self._writes.submit(self._send, 1)
        return drawn

    @cached_property
    def pictures(self) -> dict[str, Picture]:
        """Every figure by its name; those not yet sent to the other process, and those that it did not draw, are drawn here."""
        drawn = {}
        with contextlib.suppress(IndexError):
            while name := self._unsent.pop():
                drawn[name] = draw(name, *self._asked[name])
        if self._painter is not None and self._drawn is not None:
            self._writes.submit(painter.finish, self._painter)
            drawn |= self._drawn.result()
        return {name: drawn.get(name) or draw(name, *request) for name, request in self._asked.items()}

    def close(self) -> None:
        """Ends the other process."""
        if self._painter is not None:
            painter.end(self._painter)
        self._writes.shutdown(cancel_futures=True)
        self._reads.shutdown(cancel_futures=True)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def paint() -> None:
    """Draws requests from standard input until it is closed: the main loop of the other process."""
    out = sys.stdout.buffer
    for name, function, given in painter.messages(sys.stdin.buffer):
        pickle.dump((name, draw(name, function, given)), out, pickle.HIGHEST_PROTOCOL)
        out.flush()
