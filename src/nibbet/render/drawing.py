"""Draws figures in a separate process, in parallel with computing; the result is the same as in this process."""

from __future__ import annotations

import contextlib
import os
import pickle
import subprocess
import sys
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, Self

from nibbet.once import threads
from nibbet.render import canvas, figures

if TYPE_CHECKING:
    from nibbet.results import Results


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
    "movers": ("movers", lambda site: (site.compare(by="page"), site.windows)),
}


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
        self._painter = _start() if threads() > 1 else None
        self._writes, self._reads = ThreadPoolExecutor(1), ThreadPoolExecutor(1)
        self._drawn = None if self._painter is None else self._reads.submit(_received, self._painter)
        try:
            for name, (function, given) in FIGURES.items():
                self._asked[name] = (function, given(site))
                if self._painter is not None:
                    self._writes.submit(_send, self._painter, (name, *self._asked[name]))
        except BaseException:
            self.close()
            raise

    @cached_property
    def pictures(self) -> dict[str, Picture]:
        """Every figure by its name; figures that the other process did not draw are drawn here."""
        drawn = {}
        if self._painter is not None and self._drawn is not None:
            self._writes.submit(_close, self._painter)
            drawn = self._drawn.result()
        return {name: drawn.get(name) or draw(name, *request) for name, request in self._asked.items()}

    def close(self) -> None:
        """Ends the other process."""
        if self._painter is not None:
            self._painter.kill()
            self._painter.wait()
        self._writes.shutdown(cancel_futures=True)
        self._reads.shutdown(cancel_futures=True)
        for pipe in () if self._painter is None else (self._painter.stdin, self._painter.stdout):
            with contextlib.suppress(OSError):
                pipe.close()  # type: ignore[union-attr]

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _start() -> subprocess.Popen[bytes] | None:
    """The process that draws; None where it cannot be started."""
    package = str(Path(__file__).parents[2])
    paths = os.pathsep.join([package, *filter(None, [os.environ.get("PYTHONPATH")])])
    pipes: Any = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.DEVNULL}
    with contextlib.suppress(OSError, ValueError):
        # its own process group: a keyboard interrupt goes to the computing process, which ends this one
        return subprocess.Popen(  # noqa: S603 - our own program
            [sys.executable, "-c", f"from {__name__} import paint; paint()"],
            env={**os.environ, "PYTHONPATH": paths},
            process_group=0,
            **pipes,
        )
    return None


def _send(painter: subprocess.Popen[bytes], request: tuple[str, str, tuple[Any, ...]]) -> None:
    with contextlib.suppress(OSError, ValueError):
        pickle.dump(request, painter.stdin, pickle.HIGHEST_PROTOCOL)  # type: ignore[arg-type]
        painter.stdin.flush()  # type: ignore[union-attr]


def _close(painter: subprocess.Popen[bytes]) -> None:
    with contextlib.suppress(OSError, ValueError):
        painter.stdin.close()  # type: ignore[union-attr]


def _received(painter: subprocess.Popen[bytes]) -> dict[str, Picture]:
    return dict(_messages(painter.stdout))


def _messages(pipe: Any) -> Iterator[Any]:
    """The objects received through a pipe until it is closed."""
    with contextlib.suppress(EOFError, OSError, pickle.UnpicklingError):
        while True:
            yield pickle.load(pipe)  # noqa: S301 - our own process writes it


def paint() -> None:
    """Draws requests from standard input until it is closed: the main loop of the other process."""
    out = sys.stdout.buffer
    for name, function, given in _messages(sys.stdin.buffer):
        pickle.dump((name, draw(name, function, given)), out, pickle.HIGHEST_PROTOCOL)
        out.flush()
