"""The process that draws figures, and the messages to and from it; imports nothing large, so that it can be started first."""

from __future__ import annotations

import contextlib
import os
import pickle
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from nibbet.once import threads

#: a process started in advance that has no work yet
_waiting: list[subprocess.Popen[bytes]] = []


@contextlib.contextmanager
def started() -> Iterator[None]:
    """Starts the process at once: it imports what it needs while the sources are read. Ends it with the block if nothing was drawn."""
    if threads() > 1 and (painter := start()) is not None:
        _waiting.append(painter)
    try:
        yield
    finally:
        while _waiting:
            end(_waiting.pop())


def take() -> subprocess.Popen[bytes] | None:
    """The process started in advance, or a new one; None where a single thread is allowed or none can be started."""
    if threads() == 1:
        return None
    return _waiting.pop() if _waiting else start()


def start() -> subprocess.Popen[bytes] | None:
    """A new process that draws; None where it cannot be started."""
    package = str(Path(__file__).parents[2])
    paths = os.pathsep.join([package, *filter(None, [os.environ.get("PYTHONPATH")])])
    pipes: Any = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.DEVNULL}
    with contextlib.suppress(OSError, ValueError):
        # its own process group: a keyboard interrupt goes to the computing process, which ends this one
        return subprocess.Popen(
            [sys.executable, "-c", "from nibbet.render.drawing import paint; paint()"],
            env={**os.environ, "PYTHONPATH": paths},
            process_group=0,
            **pipes,
        )
    return None


def send(painter: subprocess.Popen[bytes], request: tuple[Any, ...]) -> None:
    """Sends one request to the process; nothing where it has ended."""
    with contextlib.suppress(OSError, ValueError):
        pickle.dump(request, painter.stdin, pickle.HIGHEST_PROTOCOL)  # type: ignore[arg-type]
        painter.stdin.flush()  # type: ignore[union-attr]


def finish(painter: subprocess.Popen[bytes]) -> None:
    """Tells the process that no request will follow."""
    with contextlib.suppress(OSError, ValueError):
        painter.stdin.close()  # type: ignore[union-attr]


def end(painter: subprocess.Popen[bytes]) -> None:
    """Ends the process, whatever it is doing."""
    painter.kill()
    painter.wait()
    for pipe in (painter.stdin, painter.stdout):
        with contextlib.suppress(OSError):
            pipe.close()  # type: ignore[union-attr]


def messages(pipe: Any) -> Iterator[Any]:
    """The objects received through a pipe until it is closed."""
    with contextlib.suppress(EOFError, OSError, pickle.UnpicklingError):
        while True:
            yield pickle.load(pipe)  # noqa: S301 - our own process writes it
