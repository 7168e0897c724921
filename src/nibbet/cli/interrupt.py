"""Ctrl-C ends the program soon, whatever it is doing; work that cannot be interrupted ends with the process."""

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

#: seconds after an interrupt until the program stops waiting for an orderly end, and until it is killed from outside
PATIENCE, LAST = 1.2, 1.6


@contextlib.contextmanager
def watched(tell: Callable[[], int]) -> Iterator[None]:
    """Ends the process PATIENCE seconds after an interrupt, with the message of `tell`, if the block has not ended by then.

    Python handles an interrupt only between two bytecode steps, and one step may take long over millions of rows, in this thread or in one
    that it waits for. So the signal wakes another thread, through a socket to which the system writes at once; and if a step blocks all
    threads of Python, a small helper process kills this one LAST seconds after the interrupt.
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
    """Ends the process at once, without waiting for its threads; deletes its temporary folders."""
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError):
            stream.flush()
    if "nibbet.passing" in sys.modules:
        sys.modules["nibbet.passing"].close_all()
    os._exit(code)


def _beside(here: socket.socket, there: socket.socket, tell: Callable[[], int]) -> int:
    """Starts a process that forwards interrupts to the watching thread of this one, and kills this one if that does not help; returns its
    number.
    """
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
    """Kills a process, reports it, and deletes its temporary files."""
    import tempfile

    from nibbet.passing import sweep

    os.kill(process, signal.SIGTERM)
    tell()
    sys.stderr.flush()
    select.select([there], [], [], LAST)  # until it is gone, and its locks with it
    sweep(Path(tempfile.gettempdir()), "nibbet-")
