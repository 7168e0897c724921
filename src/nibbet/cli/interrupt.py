"""Ctrl-C ends the program soon, whatever it is doing: work that cannot be stopped is left to end with the process."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import sys
import threading
from collections.abc import Callable, Iterator

#: seconds from an interrupt after which the program no longer waits for an orderly end
PATIENCE = 1.2


@contextlib.contextmanager
def watched(tell: Callable[[], int]) -> Iterator[None]:
    """End the process PATIENCE seconds after an interrupt, with what `tell` returns, where the block has not ended by then.

    An interrupt reaches Python only between two of its steps, and one step may take long over millions of rows, on this thread or on one that
    is waited for. So the signal wakes another thread, by a socket that the system writes to at once.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    here, there = socket.socketpair()
    here.setblocking(False)
    ended = threading.Event()

    def watch() -> None:
        with contextlib.suppress(OSError):
            while number := there.recv(1):
                if number[0] == signal.SIGINT:
                    break
            else:
                return
        if not ended.wait(PATIENCE):
            leave(tell())

    before = signal.set_wakeup_fd(here.fileno(), warn_on_full_buffer=False)
    threading.Thread(target=watch, name="nibbet-interrupt", daemon=True).start()
    try:
        yield
    finally:
        ended.set()
        signal.set_wakeup_fd(before)
        here.close()
        there.close()


def leave(code: int) -> None:
    """End the process at once, without waiting for its threads; its passing folders go with it."""
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError):
            stream.flush()
    if "nibbet.passing" in sys.modules:
        sys.modules["nibbet.passing"].close_all()
    os._exit(code)
