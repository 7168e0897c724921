"""Figures are drawn beside the computing by a process of their own; whatever befalls it, they come out the same."""

from __future__ import annotations

import os
import re
import signal
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

import nibbet
from nibbet.once import limit_threads
from nibbet.render import drawing, painter
from nibbet.render.drawing import FIGURES, Drawing


@pytest.fixture(scope="module")
def site(ran: Path) -> Iterator[nibbet.Site]:
    with nibbet.open_site(ran) as opened:
        yield opened


def gone(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return True
    return False


@pytest.mark.slow
def test_another_process_draws_what_would_be_drawn_here(site: nibbet.Site, ran: Path) -> None:
    with Drawing(site) as other:
        process = other._painter.pid
        pictures = other.pictures
        assert 0 < len(other._drawn.result()) < len(FIGURES), "both drew"
    assert gone(process), "it ends with its work"
    for name, (function, given) in FIGURES.items():
        assert drawing.draw(name, function, given(site)) == pictures[name], name
        assert (ran / "out" / "figures" / f"{name}.png").read_bytes() == pictures[name].png
        assert re.match(r'<svg role="img" aria-label="[^"]+"', pictures[name].svg), "told to those who do not see it"
    text = (ran / "out" / "report.html").read_text("utf-8")
    assert all(f'id="{name}-' in text for name in FIGURES)


@pytest.mark.slow
def test_a_killed_painter_is_replaced_by_drawing_here(site: nibbet.Site) -> None:
    with Drawing(site) as whole:
        pictures = whole.pictures
    with Drawing(site) as other:
        os.kill(other._painter.pid, signal.SIGKILL)
        assert other.pictures == pictures


@pytest.mark.slow
def test_where_no_process_can_be_started_it_is_drawn_here(site: nibbet.Site, monkeypatch: pytest.MonkeyPatch) -> None:
    def refused(*_: object, **__: object) -> None:
        raise OSError("no process")

    monkeypatch.setattr("nibbet.render.painter.subprocess.Popen", refused)
    with Drawing(site) as here:
        assert here._painter is None
        assert set(here.pictures) == set(FIGURES)


def test_one_thread_means_no_second_process(site: nibbet.Site) -> None:
    limit_threads(1)
    try:
        with Drawing(site) as here:
            assert here._painter is None
    finally:
        limit_threads(None)


def test_a_fault_before_the_end_leaves_no_process_behind(site: nibbet.Site, monkeypatch: pytest.MonkeyPatch) -> None:
    started: list[int] = []
    start = painter.start

    def noted() -> object:
        process = start()
        started.append(process.pid)
        return process

    def broken(_: object) -> tuple[object, ...]:
        raise KeyboardInterrupt

    monkeypatch.setattr(painter, "start", noted)
    monkeypatch.setitem(FIGURES, "movers", ("movers", broken))
    with pytest.raises(KeyboardInterrupt):
        Drawing(site)
    for _ in range(50):
        if gone(started[0]):
            break
        time.sleep(0.1)
    assert gone(started[0])


def test_a_process_started_in_advance_draws_or_ends(site: nibbet.Site) -> None:
    with painter.started():
        waiting = painter._waiting[0].pid
        with Drawing(site) as other:
            assert other._painter.pid == waiting
    assert gone(waiting)
    with painter.started():
        idle = painter._waiting[0].pid
        assert not gone(idle)
    assert gone(idle)


def test_a_hostile_query_reaches_the_drawing_as_text_alone() -> None:
    function, given = "topic_queries", None
    import pandas as pd

    rows = pd.DataFrame({"query": ["$\\frac{1}{0}$ <script>", "plain"], "volume": [10, 5], "position": [3.0, None]})
    given = (rows, "$\\frac{1}{0}$")
    picture = drawing.draw("hostile", function, given)
    assert "<script>" not in picture.svg
    assert picture.png.startswith(b"\x89PNG")
