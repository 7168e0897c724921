"""Ctrl-C ends the program soon, whatever it is doing: work that cannot be stopped is left to end with the process."""

from __future__ import annotations

import contextlib
import os
import select
import signal
import socket
import sys
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

#: seconds from an interrupt after which the program no longer waits for an orderly end, and after which it is ended from outside
PATIENCE, LAST = 1.2, 1.6


@contextlib.contextmanager
def watched(tell: Callable[[], int]) -> Iterator[None]:
    """End the process PATIENCE seconds after an interrupt, with what `tell` returns, where the block has not ended by then.

    An interrupt reaches Python only between two of its steps, and one step may take long over millions of rows, on this thread or on one that
    is waited for. So the signal wakes another thread, by a socket that the system writes to at once; and where a step keeps every thread of
    Python waiting, a small process beside this one ends it LAST seconds after the interrupt.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    here, there = socket.socketpair()
    helper = _beside(here, there, tell) if hasattr(os, "fork") and threading.active_count() == 1 else 0
    here.setblocking(False)
    ended, source = threading.Event(), here if helper else there

    def watch() -> None:
        with contextlib.suppress(OSError, ValueError):
            select.select([source], [], [])
            if source.recv(1) == bytes([signal.SIGINT]) and not ended.wait(PATIENCE):
                leave(tell())

    before = signal.set_wakeup_fd(here.fileno(), warn_on_full_buffer=False)
    threading.Thread(target=watch, name="nibbet-interrupt", daemon=True).start()
    try:
        yield
    finally:
        ended.set()
        signal.set_wakeup_fd(before)
        with contextlib.suppress(OSError):
            here.shutdown(socket.SHUT_RDWR)
        if helper:
            os.waitpid(helper, 0)
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


def _beside(here: socket.socket, there: socket.socket, tell: Callable[[], int]) -> int:
    """A process that hands interrupts on to the watching thread of this one, and ends this one where that does not help; its number."""
    number = os.fork()
    if number:
        there.close()
        return number
    try:
        for one in (signal.SIGINT, signal.SIGQUIT, signal.SIGTSTP):
            signal.signal(one, signal.SIG_IGN)
        here.close()
        while (signalled := there.recv(1)) and signalled != bytes([signal.SIGINT]):
            pass
        if signalled:
            there.send(signalled)
            if not select.select([there], [], [], LAST)[0]:
                _end(os.getppid(), there, tell)
    except OSError:
        pass
    finally:
        os._exit(0)


def _end(process: int, there: socket.socket, tell: Callable[[], int]) -> None:
    """End a process, say so, and take away what it leaves."""
    import tempfile

    from nibbet.passing import sweep

    os.kill(process, signal.SIGTERM)
    tell()
    sys.stderr.flush()
    select.select([there], [], [], LAST)  # until it is gone, and with it its locks
    sweep(Path(tempfile.gettempdir()), "nibbet-")
